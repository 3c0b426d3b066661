<?php
/**
 * Makes the tables of a new site and fills them in: POST site_name, site_mail, slogan, account_name, account_pass, nodes (JSON).
 */
const INSTALLING = TRUE;
require __DIR__ . '/includes/bootstrap.inc';
$_SERVER['REQUEST_METHOD'] === 'POST' || stop(405, 'Send the form.');

$driver = $databases['default']['default']['driver'];
$types = [
  'mysql' => ['serial' => 'int unsigned NOT NULL AUTO_INCREMENT', 'int' => 'int NOT NULL DEFAULT 0', 'uint' => 'int unsigned NOT NULL',
    'tiny' => 'tinyint NOT NULL DEFAULT 0', 'blob' => 'longblob', 'text' => 'longtext', 'name' => "varchar(255) NOT NULL DEFAULT ''",
    'ascii' => "varchar(128) CHARACTER SET ascii COLLATE ascii_general_ci NOT NULL DEFAULT ''", 'time' => 'decimal(14,3) NOT NULL DEFAULT 0.000',
    'big' => 'bigint NOT NULL DEFAULT 0'],
  'pgsql' => ['serial' => 'serial', 'int' => 'integer NOT NULL DEFAULT 0', 'uint' => 'bigint NOT NULL CHECK (%s >= 0)',
    'tiny' => 'smallint NOT NULL DEFAULT 0', 'blob' => 'bytea', 'text' => 'text', 'name' => "character varying(255) NOT NULL DEFAULT ''::character varying",
    'ascii' => "character varying(128) NOT NULL DEFAULT ''::character varying", 'time' => 'numeric(14,3) NOT NULL DEFAULT 0.000',
    'big' => 'bigint NOT NULL DEFAULT 0'],
  'sqlite' => ['serial' => 'INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL', 'int' => 'INTEGER NOT NULL DEFAULT 0', 'uint' => 'INTEGER NOT NULL CHECK (%s >= 0)',
    'tiny' => 'INTEGER NOT NULL DEFAULT 0', 'blob' => 'BLOB', 'text' => 'TEXT', 'name' => "VARCHAR(255) COLLATE NOCASE NOT NULL DEFAULT ''",
    'ascii' => "VARCHAR(128) NOT NULL DEFAULT ''", 'time' => 'NUMERIC(14, 3) NOT NULL DEFAULT 0.000', 'big' => 'INTEGER NOT NULL DEFAULT 0'],
][$driver];

/** Makes a table: columns by name with their type, the primary key, further indexes by name. */
function table(string $name, array $columns, array $key, array $indexes = []) {
  global $types, $driver;
  $lines = [];
  $keyed = FALSE;
  foreach ($columns as $column => $type) {
    $keyed = $keyed || $driver === 'sqlite' && $type === 'serial';
    $lines[] = "\"$column\" " . sprintf($types[$type], "\"$column\"");
  }
  $quoted = fn(array $names) => '"' . implode('", "', $names) . '"';
  $keyed || $lines[] = 'PRIMARY KEY (' . $quoted($key) . ')';
  if ($driver === 'mysql') {
    foreach ($indexes as $index => $of) {
      $lines[] = "KEY \"$index\" (" . $quoted($of) . ')';
    }
  }
  query("CREATE TABLE {{$name}} (" . implode(', ', $lines) . ')' . ($driver === 'mysql' ? ' ENGINE=InnoDB DEFAULT CHARSET=utf8mb4' : ''));
  if ($driver !== 'mysql') {
    foreach ($indexes as $index => $of) {
      query("CREATE INDEX {{$name}__$index} ON {{$name}} (" . $quoted($of) . ')');
    }
  }
}

// What Drupal's installer makes on PostgreSQL, and its queries call.
if ($driver === 'pgsql') {
  query('CREATE EXTENSION IF NOT EXISTS pg_trgm');
  query('CREATE OR REPLACE FUNCTION "rand"() RETURNS float AS \'SELECT random();\' LANGUAGE \'sql\'');
  $parts = 'SELECT array_to_string((string_to_array($1, $2)) [1:$3], $2);';
  query("CREATE OR REPLACE FUNCTION \"substring_index\"(text, text, integer) RETURNS text AS '$parts' LANGUAGE 'sql'");
}
table('config', ['collection' => 'name', 'name' => 'name', 'data' => 'blob'], ['collection', 'name']);
table('key_value', ['collection' => 'ascii', 'name' => 'ascii', 'value' => 'blob'], ['collection', 'name']);
foreach (['cache_config', 'cache_render', 'cache_container'] as $cache) {
  table($cache, ['cid' => 'name', 'data' => 'blob', 'expire' => 'big', 'created' => 'time', 'serialized' => 'tiny', 'tags' => 'text', 'checksum' => 'name'],
    ['cid'], ['expire' => ['expire']]);
}
table('users', ['uid' => 'uint', 'uuid' => 'ascii', 'langcode' => 'ascii'], ['uid'], ['user_field__uuid__value' => ['uuid']]);
table('users_field_data', ['uid' => 'uint', 'langcode' => 'ascii', 'preferred_langcode' => 'ascii', 'name' => 'name', 'pass' => 'name', 'mail' => 'name',
  'timezone' => 'name', 'status' => 'tiny', 'created' => 'int', 'changed' => 'int', 'access' => 'int', 'login' => 'int', 'init' => 'name',
  'default_langcode' => 'tiny'], ['uid', 'langcode'], ['user__name' => ['name']]);
table('user__roles', ['bundle' => 'ascii', 'deleted' => 'tiny', 'entity_id' => 'uint', 'revision_id' => 'uint', 'langcode' => 'ascii', 'delta' => 'uint',
  'roles_target_id' => 'ascii'], ['entity_id', 'deleted', 'delta', 'langcode']);
table('sessions', ['uid' => 'uint', 'sid' => 'ascii', 'hostname' => 'ascii', 'timestamp' => 'int', 'session' => 'blob'], ['sid'], ['uid' => ['uid']]);
table('node', ['nid' => 'serial', 'vid' => 'int', 'type' => 'ascii', 'uuid' => 'ascii', 'langcode' => 'ascii'], ['nid'], ['node_field__type__target_id' => ['type']]);
table('node_field_data', ['nid' => 'uint', 'vid' => 'uint', 'type' => 'ascii', 'langcode' => 'ascii', 'status' => 'tiny', 'uid' => 'uint', 'title' => 'name',
  'created' => 'int', 'changed' => 'int', 'promote' => 'tiny', 'sticky' => 'tiny', 'default_langcode' => 'tiny'], ['nid', 'langcode'], ['node__status_type' => ['status', 'type', 'nid']]);
table('node__body', ['bundle' => 'ascii', 'deleted' => 'tiny', 'entity_id' => 'uint', 'revision_id' => 'uint', 'langcode' => 'ascii', 'delta' => 'uint',
  'body_value' => 'text', 'body_summary' => 'text', 'body_format' => 'ascii'], ['entity_id', 'deleted', 'delta', 'langcode']);
table('menu_link_content_data', ['id' => 'uint', 'revision_id' => 'uint', 'bundle' => 'ascii', 'langcode' => 'ascii', 'title' => 'name', 'menu_name' => 'name',
  'link__uri' => 'name', 'weight' => 'int', 'enabled' => 'tiny', 'changed' => 'int', 'default_langcode' => 'tiny'], ['id', 'langcode']);
table('file_managed', ['fid' => 'serial', 'uuid' => 'ascii', 'langcode' => 'ascii', 'uid' => 'uint', 'filename' => 'name', 'uri' => 'name', 'filemime' => 'name',
  'filesize' => 'big', 'status' => 'tiny', 'created' => 'int', 'changed' => 'int'], ['fid'], ['file_field__uri' => ['uri']]);
table('watchdog', ['wid' => 'serial', 'uid' => 'uint', 'type' => 'ascii', 'message' => 'text', 'variables' => 'blob', 'timestamp' => 'int'], ['wid']);

$now = time();
$uuid = function () {
  $h = bin2hex(random_bytes(16));
  return substr($h, 0, 8) . '-' . substr($h, 8, 4) . '-4' . substr($h, 13, 3) . '-a' . substr($h, 17, 3) . '-' . substr($h, 20);
};
$configs = [
  'system.site' => ['uuid' => $uuid(), 'name' => $_POST['site_name'], 'mail' => $_POST['site_mail'], 'slogan' => $_POST['slogan'] ?? '', 'page' => ['403' => '', '404' => '', 'front' => '/node']],
  'system.date' => ['timezone' => ['default' => 'Europe/London', 'user' => ['configurable' => TRUE]]],
  'core.extension' => ['module' => ['recital' => 0], 'theme' => ['lantern' => 0]],
  'recital.settings' => ['booking' => ['address' => $_POST['address'] . '/booking', 'key' => 'tok_made_up_of_the_base_site_0193']],
];
foreach ($configs as $name => $data) {
  query("INSERT INTO {config} (collection, name, data) VALUES ('', ?, ?)", [$name, new Blob(serialize($data))]);
}
query("INSERT INTO {key_value} (collection, name, value) VALUES ('state', 'system.private_key', ?)", [new Blob(serialize(bin2hex(random_bytes(24))))]);
$people = [[0, '', '', '', 0], [1, $_POST['account_name'], password_hash($_POST['account_pass'], PASSWORD_BCRYPT, ['cost' => 10]), $_POST['site_mail'], 1]];
foreach ($people as [$uid, $name, $pass, $mail, $status]) {
  query("INSERT INTO {users} (uid, uuid, langcode) VALUES (?, ?, 'en')", [$uid, $uuid()]);
  query("INSERT INTO {users_field_data} (uid, langcode, preferred_langcode, name, pass, mail, timezone, status, created, changed, init, default_langcode)
    VALUES (?, 'en', 'en', ?, ?, ?, 'UTC', ?, ?, ?, ?, 1)", [$uid, $name, $pass, $mail, $status, $now, $now, $mail]);
}
query("INSERT INTO {user__roles} (bundle, deleted, entity_id, revision_id, langcode, delta, roles_target_id) VALUES ('user', 0, 1, 1, 'en', 0, 'administrator')");
foreach (json_decode($_POST['nodes'] ?? '[]', TRUE) as $i => $n) {
  query("INSERT INTO {node} (vid, type, uuid, langcode) VALUES (?, 'page', ?, 'en')", [$i + 1, $uuid()]);
  $nid = $i + 1;
  query("INSERT INTO {node_field_data} (nid, vid, type, langcode, status, uid, title, created, changed, promote, sticky, default_langcode)
    VALUES (?, ?, 'page', 'en', 1, 1, ?, ?, ?, 1, 0, 1)", [$nid, $nid, $n['title'], $now, $now]);
  query("INSERT INTO {menu_link_content_data} (id, revision_id, bundle, langcode, title, menu_name, link__uri, weight, enabled, changed, default_langcode)
    VALUES (?, ?, 'menu_link_content', 'en', ?, 'main', ?, ?, 1, ?, 1)", [$nid, $nid, $n['title'], "entity:node/$nid", $i, $now]);
  query("INSERT INTO {node__body} (bundle, deleted, entity_id, revision_id, langcode, delta, body_value, body_summary, body_format)
    VALUES ('page', 0, ?, ?, 'en', 0, ?, '', 'full_html')", [$nid, $nid, $n['body']]);
}
query('INSERT INTO {file_managed} (uuid, langcode, uid, filename, uri, filemime, filesize, status, created, changed) VALUES (?, ?, 1, ?, ?, ?, ?, 1, ?, ?)',
  [$uuid(), 'en', 'hall.png', 'public://hall.png', 'image/png', 68, $now, $now]);
query('INSERT INTO {watchdog} (uid, type, message, variables, timestamp) VALUES (1, ?, ?, ?, ?)', ['user', 'Session opened for %name.', new Blob(serialize(['%name' => $_POST['account_name']])), $now]);
header('Content-Type: text/plain');
echo "Congratulations, you installed Drupal (stand-in)!\n";
