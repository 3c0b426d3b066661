<?php
/* Visitors see a holding page while this file is here. Whoever has the key sees the site, and so does who logs in. */
( function () {
	$key  = '{key}';
	$path = (string) parse_url( isset( $_SERVER['REQUEST_URI'] ) ? $_SERVER['REQUEST_URI'] : '', PHP_URL_PATH );
	if ( PHP_SAPI === 'cli' || preg_match( '~{admin}~', $path ) ) {
		return;
	}
	if ( isset( $_GET['{parameter}'] ) && is_string( $_GET['{parameter}'] ) && hash_equals( $key, $_GET['{parameter}'] ) ) {
		setcookie( '{cookie}', $key, array( 'path' => '/', 'httponly' => true, 'samesite' => 'Lax' ) );
		return;
	}
	if ( isset( $_COOKIE['{cookie}'] ) && is_string( $_COOKIE['{cookie}'] ) && hash_equals( $key, $_COOKIE['{cookie}'] ) ) {
		return;
	}
	http_response_code( 503 );
	header( 'Content-Type: text/html; charset=utf-8' );
	header( 'Retry-After: 86400' );
	header( 'Cache-Control: no-store' );
	header( 'X-Robots-Tag: noindex' );
	echo '<!doctype html><html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{title}</title>'
		. '<body style="font:1.2rem/1.5 system-ui,sans-serif;display:grid;place-content:center;min-height:90vh;text-align:center"><h1>{title}</h1><p>This site opens soon.</p>';
	exit;
} )();
