<?php
/**
 * Makes the tables of a new site and fills them in: POST account_name, account_pass, email, address, articles (JSON).
 */
define('_JEXEC', 1);
require __DIR__ . '/framework.php';
$_SERVER['REQUEST_METHOD'] === 'POST' || stop(405, 'Send the form.');
$pg = config()->dbtype === 'pgsql';
$id = $pg ? 'serial NOT NULL' : 'int NOT NULL AUTO_INCREMENT';
$time = $pg ? 'timestamp without time zone' : 'datetime';
$end = $pg ? '' : ' ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_unicode_ci';
foreach ([
	"CREATE TABLE #__extensions (\"extension_id\" $id, \"name\" varchar(100) NOT NULL, \"type\" varchar(20) NOT NULL, \"element\" varchar(100) NOT NULL,
		\"folder\" varchar(100) NOT NULL DEFAULT '', \"enabled\" smallint NOT NULL DEFAULT 0, \"params\" text NOT NULL, PRIMARY KEY (\"extension_id\"))",
	"CREATE TABLE #__users (\"id\" $id, \"name\" varchar(400) NOT NULL DEFAULT '', \"username\" varchar(150) NOT NULL DEFAULT '', \"email\" varchar(100) NOT NULL DEFAULT '',
		\"password\" varchar(100) NOT NULL DEFAULT '', \"block\" smallint NOT NULL DEFAULT 0, \"sendEmail\" smallint DEFAULT 0, \"registerDate\" $time NOT NULL,
		\"lastvisitDate\" $time, \"activation\" varchar(100) NOT NULL DEFAULT '', \"params\" text NOT NULL, \"resetCount\" integer NOT NULL DEFAULT 0, PRIMARY KEY (\"id\"))",
	'CREATE TABLE #__usergroups ("id" ' . $id . ', "parent_id" integer NOT NULL DEFAULT 0, "title" varchar(100) NOT NULL DEFAULT \'\', PRIMARY KEY ("id"))',
	'CREATE TABLE #__user_usergroup_map ("user_id" integer NOT NULL DEFAULT 0, "group_id" integer NOT NULL DEFAULT 0, PRIMARY KEY ("user_id", "group_id"))',
	"CREATE TABLE #__content (\"id\" $id, \"title\" varchar(255) NOT NULL DEFAULT '', \"alias\" varchar(400) NOT NULL DEFAULT '', \"introtext\" text NOT NULL, \"fulltext\" text NOT NULL,
		\"state\" smallint NOT NULL DEFAULT 0, \"catid\" integer NOT NULL DEFAULT 0, \"created\" $time NOT NULL, \"created_by\" integer NOT NULL DEFAULT 0,
		\"images\" text NOT NULL, \"attribs\" text NOT NULL, \"featured\" smallint NOT NULL DEFAULT 0, PRIMARY KEY (\"id\"))",
	"CREATE TABLE #__menu (\"id\" $id, \"menutype\" varchar(24) NOT NULL, \"title\" varchar(255) NOT NULL, \"alias\" varchar(400) NOT NULL, \"link\" varchar(1024) NOT NULL,
		\"type\" varchar(16) NOT NULL, \"published\" smallint NOT NULL DEFAULT 0, \"lft\" integer NOT NULL DEFAULT 0, \"client_id\" smallint NOT NULL DEFAULT 0, \"params\" text NOT NULL,
		PRIMARY KEY (\"id\"))",
	'CREATE TABLE #__session ("session_id" varchar(192) NOT NULL, "client_id" smallint, "guest" smallint DEFAULT 1, "time" integer NOT NULL DEFAULT 0, "data" text,
		"userid" integer DEFAULT 0, "username" varchar(150) DEFAULT \'\', PRIMARY KEY ("session_id"))',
] as $sql) {
	query($sql . $end);
}
$extensions = [['com_content', 'component', 'com_content', ['show_title' => '1']], ['com_contact', 'component', 'com_contact', ['imprint' => 'Write to us: ' . $_POST['address'] . '/contact',
	'booking' => ['address' => $_POST['address'] . '/booking/', 'open' => true]]], ['lantern', 'template', 'lantern', (object) []]];
foreach ($extensions as [$name, $type, $element, $params]) {
	query('INSERT INTO #__extensions (name, type, element, enabled, params) VALUES (?, ?, ?, 1, ?)', [$name, $type, $element, json_encode($params)]);
}
foreach (['Public', 'Registered', 'Author', 'Editor', 'Publisher', 'Manager', 'Administrator', 'Super Users'] as $i => $title) {
	query('INSERT INTO #__usergroups (parent_id, title) VALUES (?, ?)', [max(0, $i), $title]);
}
query('INSERT INTO #__users (name, username, email, password, "registerDate", params) VALUES (?, ?, ?, ?, ?, ?)', [$_POST['account_name'], $_POST['account_name'], $_POST['email'],
	password_hash($_POST['account_pass'], PASSWORD_BCRYPT, ['cost' => 10]), gmdate('Y-m-d H:i:s'), '{}']);
query('INSERT INTO #__user_usergroup_map (user_id, group_id) VALUES (1, 8)');
foreach (json_decode($_POST['articles'] ?? '[]', true) as $i => $a) {
	$alias = strtolower(preg_replace('/\W+/', '-', $a['title']));
	query('INSERT INTO #__content (title, alias, introtext, "fulltext", state, created, created_by, images, attribs, featured) VALUES (?, ?, ?, ?, 1, ?, 1, ?, ?, 1)',
		[$a['title'], $alias, $a['body'], '', gmdate('Y-m-d H:i:s'), json_encode(['image_intro' => 'images/hall.png']), '{}']);
	query('INSERT INTO #__menu (menutype, title, alias, link, type, published, lft, params) VALUES (?, ?, ?, ?, ?, 1, ?, ?)',
		['mainmenu', $a['title'], $alias, 'index.php?option=com_content&view=article&id=' . ($i + 1), 'component', $i, '{}']);
}
header('Content-Type: text/plain');
echo "Congratulations! Your Joomla (stand-in) site is ready.\n";
