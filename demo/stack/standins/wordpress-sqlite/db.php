<?php
/*
 * A stand-in for the drop-in that lets WordPress keep its database in an SQLite file. It honours the public settings of such drop-ins
 * (DB_DIR, DB_FILE, FQDBDIR, FQDB) and says to SQLite what WordPress says to MySQL, as far as WordPress itself goes: extensions may say
 * more than is understood here.
 */
defined( 'ABSPATH' ) || exit;

defined( 'FQDBDIR' ) || define( 'FQDBDIR', rtrim( defined( 'DB_DIR' ) ? DB_DIR : WP_CONTENT_DIR . '/database', '/' ) . '/' );
defined( 'FQDB' ) || define( 'FQDB', FQDBDIR . ( defined( 'DB_FILE' ) ? DB_FILE : '.ht.sqlite' ) );

class SQLite_Database extends wpdb {
	private $pdo;
	private $found = 0; // rows that the last query would have had without its limit

	public function __construct() {
		$this->show_errors = defined( 'WP_DEBUG' ) && WP_DEBUG;
		$this->charset     = 'utf8mb4';
		$this->collate     = '';
		$this->db_connect();
	}

	public function db_connect( $allow_bail = true ) {
		is_dir( FQDBDIR ) || mkdir( FQDBDIR, 0750, true );
		$this->pdo = new PDO( 'sqlite:' . FQDB, null, null, array( PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION, PDO::ATTR_STRINGIFY_FETCHES => true ) );
		$this->pdo->exec( 'PRAGMA busy_timeout = 20000' );
		$date = function ( $format ) {
			return function ( $value ) use ( $format ) {
				return gmdate( $format, strtotime( $value . ' UTC' ) );
			};
		};
		foreach ( array(
			'now' => fn() => gmdate( 'Y-m-d H:i:s' ), 'curdate' => fn() => gmdate( 'Y-m-d' ), 'utc_timestamp' => fn() => gmdate( 'Y-m-d H:i:s' ),
			'unix_timestamp' => fn( $v = 'now' ) => strtotime( $v . ' UTC' ), 'from_unixtime' => fn( $v ) => gmdate( 'Y-m-d H:i:s', $v ),
			'year' => $date( 'Y' ), 'month' => $date( 'n' ), 'dayofmonth' => $date( 'j' ), 'hour' => $date( 'G' ), 'minute' => $date( 'i' ), 'second' => $date( 's' ),
			'md5' => 'md5', 'rand' => fn() => mt_rand() / mt_getrandmax(), 'concat' => fn( ...$v ) => implode( '', $v ), 'database' => fn() => FQDB,
			'if' => fn( $is, $then, $else ) => $is ? $then : $else, 'field' => fn( $v, ...$all ) => (int) array_search( $v, array_merge( array( null ), $all ) ),
			'greatest' => 'max', 'least' => 'min', 'locate' => fn( $what, $in ) => (int) mb_stripos( " $in", $what ), 'current_user' => fn() => '',
			'regexp' => fn( $pattern, $v ) => (int) preg_match( '/' . str_replace( '/', '\/', $pattern ) . '/i', (string) $v ), 'version' => fn() => '8.0.0',
		) as $name => $function ) {
			$this->pdo->sqliteCreateFunction( $name, $function );
		}
		$this->ready = true;
		return true;
	}

	public function query( $query ) {
		$this->flush();
		$this->func_call  = "\$db->query(\"$query\")";
		$this->last_query = $query;
		++$this->num_queries;
		try {
			return $this->run( trim( apply_filters( 'query', $query ), " \t\r\n;" ) );
		} catch ( PDOException $e ) {
			$this->last_error = $e->getMessage();
			$this->print_error( $this->last_error );
			return false;
		}
	}

	private function run( $query ) {
		if ( preg_match( '/^SELECT\s+FOUND_ROWS\(\)/i', $query ) ) {
			return $this->rows( "SELECT {$this->found} AS `FOUND_ROWS()`" );
		}
		if ( preg_match( '/^SHOW\s+TABLES(?:\s+LIKE\s+(\'.*\'))?$/is', $query, $m ) ) {
			return $this->rows( "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite%'" . ( isset( $m[1] ) ? " AND name LIKE {$m[1]} ESCAPE '\\'" : '' ) );
		}
		if ( preg_match( '/^(?:DESCRIBE|DESC|SHOW\s+(?:FULL\s+)?COLUMNS\s+FROM)\s+`?(\w+)`?/i', $query, $m ) ) {
			return $this->rows( "SELECT name AS Field, type AS Type, iif(\"notnull\", 'NO', 'YES') AS `Null`, '' AS `Key`, dflt_value AS `Default` FROM pragma_table_info('{$m[1]}')" );
		}
		if ( preg_match( '/^(SET|SHOW|ALTER|ANALYZE|OPTIMIZE|CHECK|REPAIR|LOCK|UNLOCK)\b|^DELETE\s+\w+\s*,/i', $query ) ) {
			return 0;
		}
		if ( preg_match( '/^CREATE\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?`?(\w+)`?\s*\((.*)\)[^)]*$/is', $query, $m ) ) {
			$this->create( $m[1], $m[2] );
			return true;
		}
		$query = $this->translate( $query );
		if ( preg_match( '/^(?:SELECT|PRAGMA|WITH)\b/i', $query ) ) {
			if ( preg_match( '/^SELECT\s+SQL_CALC_FOUND_ROWS\b/i', $query ) ) {
				$query       = preg_replace( '/^SELECT\s+SQL_CALC_FOUND_ROWS\b/i', 'SELECT', $query );
				$this->found = (int) $this->pdo->query( 'SELECT count(*) FROM (' . preg_replace( '/\sLIMIT\s+\d+(\s*,\s*\d+)?\s*$/i', '', $query ) . ')' )->fetchColumn();
			}
			return $this->rows( $query );
		}
		$this->rows_affected = (int) $this->pdo->exec( $query );
		if ( preg_match( '/^(INSERT|REPLACE)\b/i', $query ) ) {
			$this->insert_id = (int) $this->pdo->lastInsertId();
		}
		return $this->rows_affected;
	}

	private function rows( $query ) {
		$this->last_result = $this->pdo->query( $query )->fetchAll( PDO::FETCH_OBJ );
		return $this->num_rows = count( $this->last_result );
	}

	/** What MySQL and SQLite write differently. Texts in quotes stay as they are. */
	private function translate( $query ) {
		$texts = array();
		$query = preg_replace_callback( "/'(?:[^']++|'')*+'/", function ( $m ) use ( &$texts ) {
			$texts[] = $m[0];
			return "'" . ( count( $texts ) - 1 ) . "'";
		}, $query );
		foreach ( array(
			'/\bLIKE\s+(\'\d+\')/i'                       => "LIKE $1 ESCAPE '\\'",
			'/^INSERT\s+IGNORE\b/i'                       => 'INSERT OR IGNORE',
			'/\bON\s+DUPLICATE\s+KEY\s+UPDATE\b/i'        => 'ON CONFLICT DO UPDATE SET',
			'/\bVALUES\s*\(\s*(`?\w+`?)\s*\)(?=\s*(,|$))/i' => 'excluded.$1',
			'/\bAS\s+(UN)?SIGNED\b/i'                     => 'AS INTEGER',
			'/\bAS\s+CHAR\b/i'                            => 'AS TEXT',
			'/^((?:UPDATE|DELETE)\b.*)\sLIMIT\s+\d+$/is'  => '$1',
		) as $from => $to ) {
			if ( 'excluded.$1' !== $to || false !== strpos( $query, 'ON CONFLICT' ) ) {
				$query = preg_replace( $from, $to, $query );
			}
		}
		return preg_replace_callback( "/'(\d+)'/", fn( $m ) => $texts[ $m[1] ], $query );
	}

	private function create( $table, $body ) {
		$columns = $indexes = array();
		$counted = (bool) preg_match( '/auto_increment/i', $body );
		foreach ( preg_split( '/,\s*(?![^()]*\))/', $body ) as $line ) {
			$line = trim( $line );
			if ( preg_match( '/^PRIMARY\s+KEY\s*\((.*)\)$/i', $line, $m ) ) {
				$counted || $columns[] = 'PRIMARY KEY (' . $this->unsized( $m[1] ) . ')';
			} elseif ( preg_match( '/^(UNIQUE\s+)?(?:KEY|INDEX)\s+`?(\w+)`?\s*\((.*)\)$/i', $line, $m ) ) {
				$indexes[] = 'CREATE ' . ( $m[1] ? 'UNIQUE ' : '' ) . "INDEX \"{$table}__{$m[2]}\" ON \"$table\" (" . $this->unsized( $m[3] ) . ')';
			} elseif ( preg_match( '/^`?(\w+)`?\s+(\w+)(?:\([^)]*\))?\s*(.*)$/is', $line, $m ) ) {
				$number    = preg_match( '/int|float|double|decimal/i', $m[2] );
				$columns[] = preg_match( '/auto_increment/i', $m[3] ) ? "\"{$m[1]}\" integer NOT NULL PRIMARY KEY AUTOINCREMENT"
					: "\"{$m[1]}\" " . ( $number ? 'integer' : 'text' ) . ' ' . preg_replace( '/\bunsigned\b/i', '', $m[3] ) . ( $number ? '' : ' COLLATE NOCASE' );
			}
		}
		$this->pdo->exec( "CREATE TABLE \"$table\" (" . implode( ', ', $columns ) . ')' );
		array_map( array( $this->pdo, 'exec' ), $indexes );
	}

	private function unsized( $columns ) {
		return preg_replace( '/\(\d+\)/', '', $columns );
	}

	public function _real_escape( $text ) {
		return is_scalar( $text ) ? $this->add_placeholder_escape( str_replace( "'", "''", (string) $text ) ) : '';
	}

	public function check_connection( $allow_bail = true ) { return true; }
	public function select( $db, $dbh = null ) {}
	public function set_charset( $dbh, $charset = null, $collate = null ) {}
	public function set_sql_mode( $modes = array() ) {}
	public function close() { return false; }
	public function has_cap( $cap ) { return true; }
	public function db_version() { return '8.0.0'; }
	public function db_server_info() { return '8.0.0'; }
	public function get_col_charset( $table, $column ) { return 'utf8mb4'; }
	public function get_col_length( $table, $column ) { return false; }
	protected function get_table_charset( $table ) { return 'utf8mb4'; }
	protected function strip_invalid_text( $data ) { return $data; }
	protected function load_col_info() {}
}

$GLOBALS['wpdb'] = new SQLite_Database();
