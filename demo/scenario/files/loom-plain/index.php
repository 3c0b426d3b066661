<!doctype html>
<html <?php language_attributes(); ?>>
<head>
<meta charset="<?php bloginfo( 'charset' ); ?>">
<?php wp_head(); ?>
<link rel="stylesheet" href="<?php echo esc_url( get_stylesheet_uri() ); ?>">
</head>
<body <?php body_class(); ?>>
<?php wp_body_open(); ?>
<header><?php the_custom_logo(); ?><a href="<?php echo esc_url( home_url( '/' ) ); ?>"><?php bloginfo( 'name' ); ?></a> <?php bloginfo( 'description' ); ?></header>
<?php wp_nav_menu( array( 'theme_location' => 'primary' ) ); ?>
<main>
<?php
while ( have_posts() ) {
	the_post();
	the_post_thumbnail( 'large' );
	printf( '<h1><a href="%s">%s</a></h1>', esc_url( get_permalink() ), esc_html( get_the_title() ) );
	the_category( ', ' );
	the_content();
	if ( is_singular() && get_comments_number() ) {
		wp_list_comments( array(), get_comments( array( 'post_id' => get_the_ID(), 'status' => 'approve' ) ) );
	}
}
?>
</main>
<?php wp_footer(); ?>
</body>
</html>
