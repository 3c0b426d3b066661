<?php
const BOARD_VERSION = '2.3.1';

/** The settings, keys joined by dots. They are kept compiled, as reading them takes time. */
function settings(): array {
  $file = dirname(__DIR__) . '/config/.site.yaml';
  $compiled = dirname(__DIR__) . '/var/cache/site.' . substr(md5(dirname(__DIR__)), 0, 8) . '.php';
  if (is_file($compiled) && filemtime($compiled) > filemtime($file)) {
    return require $compiled;
  }
  $out = [];
  $above = [];
  foreach (file($file, FILE_IGNORE_NEW_LINES) as $line) {
    if (!preg_match('{^( *)([\w-]+):\s*(.*?)\s*$}', $line, $m)) {
      continue;
    }
    $above = array_slice($above, 0, intdiv(strlen($m[1]), 2));
    $above[] = $m[2];
    $value = preg_replace('{\s+#.*$}', '', $m[3]);
    if ($value !== '') {
      $out[implode('.', $above)] = $value[0] === '"' ? json_decode($value) : trim($value, "'");
    }
  }
  @file_put_contents($compiled, '<?php return ' . var_export($out, true) . ';');
  return $out;
}

function token(): string { return hash_hmac('sha256', session_id(), settings()['secret']); }

function h($text): string { return htmlspecialchars((string) $text, ENT_QUOTES); }

function page(string $title, string $body, int $status = 200) {
  $s = settings();
  http_response_code($status);
  $url = h(rtrim($s['site.url'], '/'));
  $robots = $s['site.listed'] === 'yes' ? '' : '<meta name="robots" content="noindex">';
  echo "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\">$robots<title>" . h($title === '' ? $s['site.title'] : "$title · {$s['site.title']}")
    . "</title><link rel=\"stylesheet\" href=\"$url/themes/plain/plain.css\"></head><body><header><h1><a href=\"$url/\">" . h($s['site.title'])
    . "</a></h1></header><main>$body</main><footer>" . h($s['site.email']) . " · <a href=\"$url/desk\">Desk</a></footer></body></html>";
  exit;
}
