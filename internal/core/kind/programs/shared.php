<?php
/*
 * Runs before every program of a site that shares code. Such a site leads to the code by links, and PHP remembers for minutes where links
 * led: a site that has other code by now would run what it had. So what was asked for is run from where it lies now, which for shared code
 * is where it always lay, and where links led is forgotten before and after. It opens files of this site, shared code, and temporary ones.
 */
$nestseed_script = ( function () {
	clearstatcache( true );
	register_shutdown_function( function () {
		register_shutdown_function( 'clearstatcache', true ); // after what others do at the end
	} );
	$asked = (string) ( $_SERVER['SCRIPT_FILENAME'] ?? '' );
	if ( '' === $asked || '/' !== $asked[0] ) {
		return null;
	}
	$now = array();
	foreach ( explode( '/', trim( $asked, '/' ) ) as $part ) {
		$now[] = $part;
		$to    = @readlink( '/' . implode( '/', $now ) );
		if ( ! is_string( $to ) || '' === $to ) {
			continue;
		}
		array_pop( $now );
		if ( '/' === $to[0] ) {
			$now = array();
		}
		foreach ( explode( '/', trim( $to, '/' ) ) as $step ) {
			if ( '..' === $step ) {
				array_pop( $now );
			} elseif ( '.' !== $step && '' !== $step ) {
				$now[] = $step;
			}
		}
	}
	$now = '/' . implode( '/', $now );
	$site = realpath( (string) ( $_SERVER['DOCUMENT_ROOT'] ?? '' ) );
	if ( 0 === strpos( $now, __DIR__ . '/' ) ) {
		if ( $site && 0 === strpos( $asked, rtrim( $_SERVER['DOCUMENT_ROOT'], '/' ) . '/' ) ) {
			@ini_set( 'open_basedir', implode( PATH_SEPARATOR, array( $site . '/', __DIR__ . '/', rtrim( sys_get_temp_dir(), '/' ) . '/' ) ) );
		}
		return $now;
	}
	// A program of the site's own. One that opens shared code by its links is not to be remembered by these names.
	if ( $site && false !== strpos( (string) @file_get_contents( $site . '/.user.ini' ), __FILE__ ) ) {
		@ini_set( 'opcache.enable', '0' );
		return null;
	}
	// Where the site has just left shared code, what PHP remembers under this name is forgotten.
	if ( (int) @filectime( $asked ) < time() - 600 ) {
		return null;
	}
	if ( function_exists( 'opcache_invalidate' ) ) {
		@opcache_invalidate( $asked, true );
	}
	return $asked;
} )();
if ( null !== $nestseed_script ) {
	require $nestseed_script;
	exit;
}
