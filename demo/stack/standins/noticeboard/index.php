<?php
/** A noticeboard without a database: pages are files, settings are one YAML file. It shows what a kind file of one's own can describe. */
require __DIR__ . '/app/board.php';
$path = trim(substr(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH), strlen(rtrim(dirname($_SERVER['SCRIPT_NAME']), '/'))), '/');
$settings = settings();
if ($path === 'desk') {
  session_name('noticeboard');
  session_save_path(__DIR__ . '/var/cache');
  session_start();
  if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    if (!hash_equals(token(), (string) ($_POST['token'] ?? ''))) {
      http_response_code(403);
      exit("The form is out of date.\n");
    }
    if ($_POST['name'] === $settings['admin.name'] && password_verify((string) $_POST['word'], $settings['admin.word'])) {
      session_regenerate_id(true);
      $_SESSION['in'] = true;
    }
  }
  if (!empty($_SESSION['in'])) {
    page('Desk', '<p>You are at the desk.</p>');
  }
  page('Desk', '<form method="post"><label>Name <input name="name" required></label><label>Word <input type="password" name="word" required></label>'
    . '<input type="hidden" name="token" value="' . token() . '"><button>Go in</button></form>');
}
$file = __DIR__ . '/content/' . ($path === '' ? 'home' : $path) . '.html';
if (!preg_match('{^[a-z0-9-]*$}', $path) || !is_file($file)) {
  page('Not here', '<p>There is no such notice.</p>', 404);
}
page($path === '' ? '' : ucfirst($path), file_get_contents($file));
