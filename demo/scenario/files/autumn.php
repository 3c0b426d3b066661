<?php
/* What somebody at the agency does to the base site one autumn afternoon. Run once, inside the site. */
require __DIR__ . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/image.php';

wp_set_current_user( 1 );
$added = 0;
foreach ( glob( __DIR__ . '/wp-content/uploads/2026/10/*.jpg' ) as $file ) {
	if ( preg_match( '/-\d+x\d+\.jpg$/', $file ) ) {
		continue;
	}
	$relative = substr( $file, strlen( __DIR__ . '/wp-content/uploads/' ) );
	$id = wp_insert_attachment( array(
		'post_title'     => ucfirst( str_replace( '-', ' ', basename( $file, '.jpg' ) ) ),
		'post_mime_type' => 'image/jpeg',
		'guid'           => home_url() . "/wp-content/uploads/$relative",
	), $relative );
	wp_update_attachment_metadata( $id, wp_generate_attachment_metadata( $id, $file ) );
	$added++;
}
$page = get_page_by_path( 'concerts' );
wp_update_post( array( 'ID' => $page->ID, 'post_content' => $page->post_content . "\n<!-- wp:paragraph -->\n<p>The autumn concert is on 14 November.</p>\n<!-- /wp:paragraph -->" ) );
update_option( 'blogdescription', 'Lessons, ensembles and concerts, all autumn long' );
set_transient( 'loom_autumn', 'soon forgotten', 3600 );
echo "autumn $added";
