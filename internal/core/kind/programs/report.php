<?php
// Nest Seed asks this site something about itself, and takes this file away at once.
$at = isset( $_GET['at'] ) ? $_GET['at'] : null;
$by = isset( $_GET['by'] ) ? $_GET['by'] : null;
if ( time() > {until} || ! is_string( $at ) || ! is_string( $by ) || abs( time() - (int) $at ) > 120
	|| ! hash_equals( hash_hmac( 'sha256', "$at {what}", '{key}' ), $by ) ) {
	http_response_code( 404 );
	exit;
}
@unlink( __FILE__ ); // one page, one answer, where the web server's account may remove it
$nestseed_what = '{what}';
define( 'NESTSEED_AT', $at );
unset( $at, $by );
// Prints the answer, signed with the key that this page alone has, and ends.
function nestseed_answer( $answer ) {
	$text = json_encode( $answer );
	echo hash_hmac( 'sha256', NESTSEED_AT . " {what} $text", '{key}' ), ' ', $text;
	exit;
}
header( 'Content-Type: text/plain' );
header( 'Cache-Control: no-store' );
// What a connection is to, asked of the database itself; what the settings say, where PHP cannot reach it so.
function nestseed_asks( $driver, $host, $port, $name, $user, $password, $socket = '' ) {
	$file = 'sqlite' === $driver;
	try {
		$at = $socket ? "unix_socket=$socket" : "host=$host" . ( $port ? ";port=$port" : '' );
		$db = new PDO( $file ? "sqlite:$name" : "$driver:$at;dbname=$name", $file ? null : $user, $file ? null : $password,
			array( PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION ) );
		if ( $file ) {
			return array( 'database' => realpath( $name ), 'user' => '' );
		}
		$asks = 'pgsql' === $driver ? 'SELECT current_database(), session_user' : 'SELECT DATABASE(), CURRENT_USER()';
		list( $name, $user ) = $db->query( $asks )->fetch( PDO::FETCH_NUM );
	} catch ( Exception $e ) {
		return array( 'database' => $file ? realpath( $name ) : $name, 'user' => $file ? '' : $user );
	}
	return array( 'database' => $name, 'user' => $user );
}
{tells}
