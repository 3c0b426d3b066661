<?php
/*
 * A page of Nest Seed. It passes bytes on to a server that only programs on this host can reach, for requests that are signed, and is
 * removed when they are over. Some minutes after it was placed it answers no more, unless it is at work. One request keeps the connections
 * open; the others bring and fetch bytes.
 */
define( 'NESTSEED_TO', base64_decode( '{to}' ) );
const NESTSEED_UNTIL = {until};
$nestseed = array();
foreach ( array( 'at', 'op', 'id', 'seq', 'wait', 'by' ) as $name ) {
	$nestseed[ $name ] = is_string( $_GET[ $name ] ?? null ) ? $_GET[ $name ] : '';
}
$nestseed_body = (string) file_get_contents( 'php://input' );
$nestseed_text = implode( ' ', array( $nestseed['at'], $nestseed['op'], $nestseed['id'], $nestseed['seq'], $nestseed['wait'], hash( 'sha256', $nestseed_body ) ) );
$nestseed_socket = rtrim( sys_get_temp_dir(), '/' ) . '/{name}.sock';
if ( time() > NESTSEED_UNTIL && ! file_exists( $nestseed_socket ) || abs( time() - (int) $nestseed['at'] ) > 120
	|| ! hash_equals( hash_hmac( 'sha256', $nestseed_text, '{key}' ), $nestseed['by'] ) ) {
	http_response_code( 404 );
	exit;
}
header( 'Content-Type: application/octet-stream' );
header( 'Cache-Control: no-store' );
header( 'X-Accel-Buffering: no' );
while ( ob_get_level() > 0 ) {
	ob_end_clean();
}
if ( 'keep' === $nestseed['op'] ) {
	nestseed_keep( $nestseed_socket );
	exit;
}
$nestseed_keeper = @stream_socket_client( 'unix://' . $nestseed_socket, $code, $why, 5 );
if ( ! $nestseed_keeper ) {
	http_response_code( 503 );
	exit( 'nobody keeps the connection: ' . $why );
}
stream_set_timeout( $nestseed_keeper, 60 );
nestseed_write( $nestseed_keeper, implode( ' ', array( $nestseed['op'], $nestseed['id'], $nestseed['seq'], $nestseed['wait'], strlen( $nestseed_body ) ) ) . "\n" . $nestseed_body );
fpassthru( $nestseed_keeper );

function nestseed_write( $to, $bytes ) {
	while ( '' !== $bytes ) {
		$n = @fwrite( $to, $bytes );
		if ( ! $n ) {
			return false;
		}
		$bytes = (string) substr( $bytes, $n );
	}
	return true;
}

/** Answers one request: "ok" with bytes, "end" when the other side has ended, or "no" with the reason. */
function nestseed_answer( $ask, $says, $bytes = '' ) {
	nestseed_write( $ask, $says . "\n" . $bytes );
	fclose( $ask );
}

function nestseed_keep( $socket ) {
	@set_time_limit( 0 );
	@unlink( $socket );
	$mask   = umask( 0177 );
	$listen = @stream_socket_server( 'unix://' . $socket, $code, $why );
	umask( $mask );
	if ( ! $listen ) {
		echo 'no ' . $why;
		return;
	}
	register_shutdown_function( function () use ( $socket ) {
		@unlink( $socket );
	} );
	$open = array(); // connections by their numbers: array( stream, bytes that have come, next request, has ended )
	$asks = array(); // requests that wait for bytes: array( stream, number, until when )
	$used = microtime( true );
	$said = 0;
	while ( microtime( true ) - $used < 60 ) {
		if ( microtime( true ) - $said > 5 ) {
			echo '.'; // which also ends this where nobody listens any more
			flush();
			$said = microtime( true );
		}
		$read = array( $listen );
		foreach ( $open as $c ) {
			if ( ! $c[3] && strlen( $c[1] ) < 1 << 20 ) {
				$read[] = $c[0];
			}
		}
		$write = $except = null;
		if ( @stream_select( $read, $write, $except, 0, $asks ? 20000 : 500000 ) === false ) {
			break;
		}
		if ( in_array( $listen, $read, true ) && ( $ask = @stream_socket_accept( $listen, 0 ) ) ) {
			$used = microtime( true );
			if ( ! nestseed_take( $ask, $open, $asks ) ) {
				return;
			}
		}
		foreach ( $open as $id => $c ) {
			if ( in_array( $c[0], $read, true ) ) {
				$bytes = (string) fread( $c[0], 1 << 18 );
				$open[ $id ][1] .= $bytes;
				$open[ $id ][3] = '' === $bytes && feof( $c[0] );
			}
		}
		foreach ( $asks as $i => $a ) {
			$c = $open[ $a[1] ] ?? null;
			if ( ! $c ) {
				nestseed_answer( $a[0], 'end' );
			} elseif ( '' !== $c[1] ) {
				nestseed_answer( $a[0], 'ok', $c[1] );
				$open[ $a[1] ][1] = '';
			} elseif ( $c[3] ) {
				nestseed_answer( $a[0], 'end' );
			} elseif ( microtime( true ) > $a[2] ) {
				nestseed_answer( $a[0], 'ok' );
			} else {
				continue;
			}
			unset( $asks[ $i ] );
		}
	}
}

/** Does what a request asks for; false ends it all. */
function nestseed_take( $ask, &$open, &$asks ) {
	stream_set_timeout( $ask, 10 );
	$line = explode( ' ', trim( (string) fgets( $ask, 200 ) ) );
	if ( count( $line ) !== 5 || 'stop' === $line[0] ) {
		nestseed_answer( $ask, 'ok' );
		return 'stop' !== $line[0];
	}
	list( $op, $id, $seq, $wait, $length ) = $line;
	$body = $length > 0 ? (string) stream_get_contents( $ask, (int) $length ) : '';
	if ( 'open' === $op && ! isset( $open[ $id ] ) ) {
		$to = @stream_socket_client( NESTSEED_TO, $code, $why, 10 );
		if ( ! $to ) {
			nestseed_answer( $ask, 'no ' . $why );
			return true;
		}
		stream_set_blocking( $to, false );
		$open[ $id ] = array( $to, '', 1, false );
		nestseed_answer( $ask, 'ok' );
		return true;
	}
	$c = $open[ $id ] ?? null;
	if ( ! $c || (int) $seq !== $c[2] || strlen( $body ) !== (int) $length ) {
		nestseed_answer( $ask, 'end' );
		return true;
	}
	$open[ $id ][2]++;
	if ( 'close' === $op ) {
		fclose( $c[0] );
		unset( $open[ $id ] );
		nestseed_answer( $ask, 'ok' );
		return true;
	}
	stream_set_blocking( $c[0], true );
	$written = nestseed_write( $c[0], $body );
	stream_set_blocking( $c[0], false );
	if ( ! $written ) {
		nestseed_answer( $ask, 'end' );
		return true;
	}
	$asks[] = array( $ask, $id, microtime( true ) + min( 10000, (int) $wait ) / 1000 );
	return true;
}
