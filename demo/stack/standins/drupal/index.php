<?php
/**
 * The pages of the stand-in: the front page, contents, the log-in, and a list of people for those who are logged in.
 */
require __DIR__ . '/core/includes/bootstrap.inc';

$site = config('system.site');
$path = trim(substr(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH), strlen(base_path())), '/');
date_default_timezone_set(config('system.date')['timezone']['default'] ?? 'UTC');

function page(string $title, string $body, int $status = 200) {
  global $site;
  http_response_code($status);
  header('Content-Type: text/html; charset=UTF-8');
  header('X-Generator: Drupal 10 (stand-in)');
  $base = base_path();
  $name = h($site['name']);
  $menu = '';
  foreach (query("SELECT title, link__uri FROM {menu_link_content_data} WHERE menu_name = 'main' AND enabled = 1 ORDER BY weight")->fetchAll(PDO::FETCH_ASSOC) as $l) {
    $menu .= "<li><a href=\"$base" . h(substr($l['link__uri'], strlen('entity:'))) . '">' . h($l['title']) . '</a></li>';
  }
  $title = $title === '' ? $name : h($title) . " | $name";
  echo "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>$title</title><link rel=\"stylesheet\" href=\"{$base}core/misc/drupal.css\">"
    . "</head><body><header><a href=\"$base\"><h1>$name</h1></a><p>" . h($site['slogan'] ?? '') . "</p><nav><ul>$menu</ul></nav></header><main>$body</main>"
    . "<footer><a href=\"{$base}user/login\">Log in</a> · " . h($site['mail']) . '</footer></body></html>';
  exit;
}

function nodes(string $where, array $values): array {
  return query("SELECT n.nid, n.title, b.body_value FROM {node_field_data} n JOIN {node__body} b ON b.entity_id = n.nid
    JOIN {users_field_data} u ON u.uid = n.uid WHERE n.status = 1 AND $where ORDER BY n.nid", $values)->fetchAll(PDO::FETCH_ASSOC);
}

if ($path === '' || $path === 'node') {
  $list = '';
  foreach (nodes('n.promote = 1', []) as $n) {
    $list .= '<article><h2><a href="' . base_path() . "node/$n[nid]\">" . h($n['title']) . "</a></h2>$n[body_value]</article>";
  }
  page('', $list);
}
if (preg_match('{^node/(\d+)$}', $path, $m)) {
  $found = nodes('n.nid = ?', [$m[1]]);
  $found ? page($found[0]['title'], '<h2>' . h($found[0]['title']) . '</h2>' . $found[0]['body_value']) : page('Page not found', '', 404);
}
if ($path === 'user/login') {
  $said = '';
  if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    hash_equals(form_token('user_login_form'), (string) ($_POST['form_build_id'] ?? '')) || page('Log in', 'The form has become outdated.', 403);
    $account = query('SELECT uid, pass FROM {users_field_data} WHERE name = ? AND status = 1', [(string) $_POST['name']])->fetch(PDO::FETCH_ASSOC);
    if ($account && password_fits((string) $_POST['pass'], $account['pass'])) {
      $sid = bin2hex(random_bytes(32));
      query('INSERT INTO {sessions} (uid, sid, hostname, timestamp, session) VALUES (?, ?, ?, ?, ?)',
        [$account['uid'], hash('sha256', $sid), $_SERVER['REMOTE_ADDR'], time(), new Blob('')]);
      setcookie(session_cookie(), $sid, ['path' => '/', 'httponly' => TRUE, 'samesite' => 'Lax']);
      header('Location: ' . base_path() . "user/$account[uid]", TRUE, 303);
      exit;
    }
    $said = '<p role="alert">Unrecognized username or password.</p>';
  }
  page('Log in', $said . '<form method="post" action="' . h($_SERVER['REQUEST_URI']) . '"><label>Username <input name="name" required></label>'
    . '<label>Password <input type="password" name="pass" required></label><input type="hidden" name="form_build_id" value="'
    . form_token('user_login_form') . '"><input type="hidden" name="form_id" value="user_login_form"><input type="submit" name="op" value="Log in"></form>');
}
if (preg_match('{^user/(\d+)$}', $path, $m)) {
  current_uid() === (int) $m[1] ? page('Account', '<p>You are logged in.</p>') : page('Access denied', '', 403);
}
if ($path === 'admin/people') {
  $uid = current_uid();
  $roles = $uid ? query('SELECT roles_target_id FROM {user__roles} WHERE entity_id = ?', [$uid])->fetchAll(PDO::FETCH_COLUMN) : [];
  in_array('administrator', $roles, TRUE) || page('Access denied', '', 403);
  $list = '';
  foreach (query('SELECT name, mail FROM {users_field_data} WHERE uid > 0 ORDER BY uid')->fetchAll(PDO::FETCH_ASSOC) as $u) {
    $list .= '<li>' . h($u['name']) . ' ' . h($u['mail']) . '</li>';
  }
  page('People', "<ul>$list</ul>");
}
page('Page not found', '<p>The requested page could not be found.</p>', 404);
