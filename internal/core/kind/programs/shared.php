<?php
/*
 * Runs before every program of a site that shares code. Such a site leads to the code by links, and PHP remembers for minutes where links
 * led: a site that has other code by now would run what it had. So what was asked for is run from where it lies now, which for shared code
 * is where it always was, and where links of the site led is forgotten afterwards.
 */
$nestseed_script = ( function () {
	$root = rtrim( (string) ( $_SERVER['DOCUMENT_ROOT'] ?? '' ), '/' ) . '/';
	$forget = function () use ( $root ) {
		if ( '/' === $root || realpath_cache_size() > 1 << 20 ) {
			clearstatcache( true );
			return;
		}
		foreach ( realpath_cache_get() as $path => $of ) {
			if ( 0 === strpos( $path, $root ) && 0 !== strpos( $of['realpath'], $root ) ) {
				clearstatcache( true, $path );
			}
		}
	};
	register_shutdown_function( function () use ( $forget ) {
		register_shutdown_function( $forget ); // after what others do at the end
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
	$site = realpath( $root );
	if ( 0 === strpos( $now, __DIR__ . '/' ) ) {
		return $now;
	}
	// A program of the site's own. What it opens by links is remembered by where it lies, and looked up each time.
	if ( $site && false !== strpos( (string) @file_get_contents( $site . '/.user.ini' ), __FILE__ ) ) {
		@ini_set( 'opcache.revalidate_path', '1' );
		return null;
	}
	// Where the site has just left shared code, what PHP remembers under this name is forgotten.
	if ( (int) @filectime( $asked ) < time() - 600 ) {
		return null;
	}
	clearstatcache( true );
	if ( function_exists( 'opcache_invalidate' ) ) {
		@opcache_invalidate( $asked, true );
	}
	return $asked;
} )();
if ( null !== $nestseed_script ) {
	require $nestseed_script;
	exit;
}
