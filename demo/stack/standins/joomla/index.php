<?php
/** The pages of the stand-in. */
define('JOOMLA_MINIMUM_PHP', '8.1.0');
define('_JEXEC', 1);
is_file(__DIR__ . '/defines.php') && include_once __DIR__ . '/defines.php';
require __DIR__ . '/includes/framework.php';

$articles = 'SELECT a.id, a.title, a.introtext FROM #__content a JOIN #__users u ON u.id = a.created_by WHERE a.state = 1';
if (config()->offline) {
	page('Offline', '<p>' . h(config()->offline_message ?? 'This site is down for maintenance.') . '</p>', 503);
}
if (($_GET['option'] ?? '') === 'com_content') {
	$a = query("$articles AND a.id = ?", [(int) ($_GET['id'] ?? 0)])->fetch(PDO::FETCH_ASSOC);
	$a ? page($a['title'], '<h2>' . h($a['title']) . "</h2>$a[introtext]") : page('Not found', '<p>Article not found.</p>', 404);
}
$path = trim(substr(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH), strlen(dirname($_SERVER['SCRIPT_NAME']))), '/');
if ($path !== '' && $path !== 'index.php') {
	page('Not found', '<p>The requested page can\'t be found.</p>', 404);
}
$list = '';
foreach (query("$articles AND a.featured = 1 ORDER BY a.id")->fetchAll(PDO::FETCH_ASSOC) as $a) {
	$list .= '<article><h2><a href="' . h(base()) . "index.php?option=com_content&amp;view=article&amp;id=$a[id]\">" . h($a['title']) . "</a></h2>$a[introtext]</article>";
}
page('', $list);
