<?php
/**
 * What every page of the stand-in begins with: configuration, database, session.
 */
defined('_JEXEC') or die;
if (!defined('_JDEFINES')) {
	define('JPATH_ROOT', dirname(__DIR__));
	define('JPATH_CONFIGURATION', JPATH_ROOT);
}
require JPATH_CONFIGURATION . '/configuration.php';

function stop(int $status, string $why) {
	http_response_code($status);
	header('Content-Type: text/plain; charset=utf-8');
	exit($why . "\n");
}

function config(): JConfig {
	static $config;
	return $config ??= new JConfig();
}

function db(): PDO {
	static $db;
	if ($db) {
		return $db;
	}
	$c = config();
	[$host, $port] = explode(':', $c->host . ':');
	$port = $port === '' ? '' : ";port=$port";
	try {
		if ($c->dbtype === 'pgsql') {
			$db = new PDO("pgsql:host=$host;dbname={$c->db}$port", $c->user, $c->password);
		} else {
			$db = new PDO("mysql:host=$host;dbname={$c->db};charset=utf8mb4$port", $c->user, $c->password);
			$db->exec("SET SESSION sql_mode = 'ANSI_QUOTES'");
		}
		$db->setAttribute(PDO::ATTR_ERRMODE, PDO::ERRMODE_EXCEPTION);
	} catch (PDOException $e) {
		stop(500, 'Error displaying the error page: ' . $e->getMessage());
	}
	return $db;
}

/** Runs a statement in which #__ stands for the prefix of tables. */
function query(string $sql, array $values = []): PDOStatement {
	$st = db()->prepare(preg_replace('/#__(\w+)/', '"' . config()->dbprefix . '$1"', $sql));
	$st->execute($values);
	return $st;
}

/** The parameters of an extension. */
function params(string $element): array {
	$raw = query('SELECT params FROM #__extensions WHERE element = ? AND enabled = 1', [$element])->fetchColumn();
	$raw === false && stop(500, "The extension $element is not installed.");
	$params = json_decode($raw, true);
	is_array($params) || stop(500, "The parameters of $element cannot be read.");
	return $params;
}

function h($text): string { return htmlspecialchars((string) $text, ENT_QUOTES); }

function base(): string {
	return config()->live_site !== '' ? rtrim(config()->live_site, '/') . '/' : rtrim(preg_replace('{(/administrator)?/index\.php$}', '', $_SERVER['SCRIPT_NAME']), '/') . '/';
}

function cookie_name(): string { return md5(config()->secret . $_SERVER['HTTP_HOST']); }

/** The session of the one who asks: its number, account and token of forms. A new one begins where there is none. */
function session(): array {
	static $session;
	if ($session) {
		return $session;
	}
	$id = (string) ($_COOKIE[cookie_name()] ?? '');
	$row = $id === '' ? false : query('SELECT session_id, userid, data FROM #__session WHERE session_id = ?', [$id])->fetch(PDO::FETCH_ASSOC);
	if (!$row) {
		$row = ['session_id' => bin2hex(random_bytes(26)), 'userid' => 0, 'data' => bin2hex(random_bytes(16))];
		query('INSERT INTO #__session (session_id, client_id, guest, time, data, userid, username) VALUES (?, 0, 1, ?, ?, 0, ?)',
			[$row['session_id'], time(), $row['data'], '']);
		setcookie(cookie_name(), $row['session_id'], ['path' => '/', 'httponly' => true, 'samesite' => 'Lax']);
	}
	return $session = $row;
}

/** Writes a line into the log: the folder that the configuration names has to be there. */
function note(string $line) {
	if (@file_put_contents(config()->log_path . '/everything.php', gmdate('c') . " $line\n", FILE_APPEND) === false) {
		stop(500, 'The file ' . config()->log_path . '/everything.php cannot be written.');
	}
}

function page(string $title, string $body, int $status = 200) {
	http_response_code($status);
	header('Content-Type: text/html; charset=utf-8');
	$c = config();
	$menu = '';
	foreach (query('SELECT title, link FROM #__menu WHERE client_id = 0 AND published = 1 ORDER BY lft')->fetchAll(PDO::FETCH_ASSOC) as $m) {
		$menu .= '<li><a href="' . h(base() . $m['link']) . '">' . h($m['title']) . '</a></li>';
	}
	$robots = $c->robots === '' ? '' : '<meta name="robots" content="' . h($c->robots) . '">';
	echo '<!doctype html><html lang="en"><head><meta charset="utf-8"><base href="' . h(base()) . '">' . $robots . '<meta name="description" content="'
		. h($c->MetaDesc) . '"><meta name="generator" content="Joomla (stand-in)"><title>' . h($title === '' ? $c->sitename : "$title - {$c->sitename}")
		. '</title><link rel="stylesheet" href="' . h(base()) . 'templates/lantern/template.css"></head><body><header><h1>' . h($c->sitename)
		. "</h1><nav><ul>$menu</ul></nav></header><main>$body</main><footer>" . h(params('com_contact')['imprint'] ?? '') . '</footer></body></html>';
	exit;
}
