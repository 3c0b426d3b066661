<?php
// Reads every value of a database and says what is wrong with it, as one JSON text. It knows nothing but two host names, and
// shares nothing with the program whose work it judges.
mysqli_report( MYSQLI_REPORT_ERROR | MYSQLI_REPORT_STRICT );
list( , $port, $user, $password, $database, $old ) = $argv;
$db = new mysqli( '127.0.0.1', $user, $password, $database, (int) $port );
$db->set_charset( 'utf8mb4' );
$said = array( 'old' => array(), 'broken' => array(), 'values' => 0, 'serialised' => 0 );

function looks_serialised( $v ) {
	return (bool) preg_match( '/^(?:a:\d+:\{|O:\d+:"|s:\d+:"|C:\d+:").*[;}]\s*$/s', $v );
}

function look( $where, $v, $old, &$said ) {
	++$said['values'];
	if ( stripos( $v, $old ) !== false ) {
		$at            = stripos( $v, $old );
		$said['old'][] = $where . ': …' . mb_convert_encoding( substr( $v, max( 0, $at - 40 ), 120 ), 'UTF-8', 'UTF-8' ) . '…';
	}
	if ( looks_serialised( $v ) ) {
		++$said['serialised'];
		$inside = @unserialize( $v, array( 'allowed_classes' => false ) );
		if ( $inside === false ) {
			$said['broken'][] = $where . ': ' . mb_convert_encoding( substr( $v, 0, 120 ), 'UTF-8', 'UTF-8' );
		} else {
			deeper( $where, $inside, $old, $said );
		}
	}
	$json = ( $v !== '' && ( $v[0] === '{' || $v[0] === '[' ) ) ? json_decode( $v, true ) : null;
	if ( is_array( $json ) ) {
		deeper( $where . ' (JSON)', $json, $old, $said );
	}
}

function deeper( $where, $v, $old, &$said ) {
	if ( is_object( $v ) ) {
		$v = (array) $v;
	}
	if ( is_array( $v ) ) {
		foreach ( $v as $key => $inner ) {
			deeper( $where . ' › ' . $key, $inner, $old, $said );
		}
	} elseif ( is_string( $v ) ) {
		look( $where, $v, $old, $said );
	}
}

$tables = $db->query( 'SHOW FULL TABLES' )->fetch_all();
foreach ( $tables as list( $table, $what ) ) {
	$create = $db->query( 'SHOW CREATE TABLE `' . $table . '`' )->fetch_row();
	if ( stripos( $create[1], $old ) !== false ) {
		$said['old'][] = 'definition of ' . $table;
	}
	if ( $what !== 'BASE TABLE' ) {
		continue;
	}
	foreach ( $db->query( 'SELECT * FROM `' . $table . '`' ) as $i => $row ) {
		foreach ( $row as $column => $v ) {
			if ( $v !== null ) {
				look( "$table.$column of row $i", (string) $v, $old, $said );
			}
		}
	}
}
echo json_encode( $said, JSON_UNESCAPED_UNICODE | JSON_UNESCAPED_SLASHES | JSON_INVALID_UTF8_SUBSTITUTE );
