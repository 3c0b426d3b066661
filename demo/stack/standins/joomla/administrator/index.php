<?php
/** Where administrators log in, and what they see then. */
define('_JEXEC', 1);
is_file(__DIR__ . '/defines.php') && include_once __DIR__ . '/defines.php';
require dirname(__DIR__) . '/includes/framework.php';
$session = session();
$said = '';
if ($_SERVER['REQUEST_METHOD'] === 'POST') {
	if (($_POST[$session['data']] ?? '') !== '1') {
		stop(403, 'The most recent request was denied because it had an invalid security token.');
	}
	$u = query('SELECT id, password FROM #__users WHERE username = ? AND block = 0', [(string) ($_POST['username'] ?? '')])->fetch(PDO::FETCH_ASSOC);
	if ($u && password_verify((string) ($_POST['passwd'] ?? ''), $u['password'])) {
		note("$_POST[username] logged in");
		query('UPDATE #__session SET userid = ?, guest = 0, client_id = 1 WHERE session_id = ?', [$u['id'], $session['session_id']]);
		header('Location: index.php', true, 303);
		exit;
	}
	$said = '<p role="alert">Username and password do not match or you do not have an account yet.</p>';
}
$groups = $session['userid'] ? query('SELECT group_id FROM #__user_usergroup_map WHERE user_id = ?', [$session['userid']])->fetchAll(PDO::FETCH_COLUMN) : [];
if (in_array(8, array_map('intval', $groups), true)) {
	page('Home Dashboard', '<p>Home Dashboard</p>');
}
page('Administration', $said . '<form method="post" action="' . h(base()) . 'administrator/index.php"><label>Username <input name="username" required></label><label>Password '
	. '<input type="password" name="passwd" required></label><input type="hidden" name="option" value="com_login"><input type="hidden" name="task" value="login">'
	. '<input type="hidden" name="return" value="' . base64_encode('index.php') . "\"><input type=\"hidden\" name=\"$session[data]\" value=\"1\"><button>Log in</button></form>");
