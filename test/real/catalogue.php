<?php
// The museum's catalogue: a small system with settings by name and pages by slug,
// on PostgreSQL. Run by php -S; it reads its configuration from the file .env.
foreach (file(__DIR__ . '/.env', FILE_IGNORE_NEW_LINES) as $line) {
	if (preg_match('/^(\w+)=("?)(.*)\2$/', $line, $m)) $env[$m[1]] = stripcslashes($m[3]);
}
$db = pg_connect("host={$env['DB_HOST']} port={$env['DB_PORT']} dbname={$env['DB_DATABASE']} user={$env['DB_USERNAME']} password='{$env['DB_PASSWORD']}'");
$p = $env['DB_PREFIX'];
$setting = fn($name) => pg_fetch_result(pg_query_params($db, "SELECT value FROM {$p}settings WHERE name = $1", [$name]), 0, 0);
$slug = trim(parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH), '/') ?: 'home';
$cached = pg_fetch_row(pg_query_params($db, "SELECT html FROM {$p}page_cache WHERE slug = $1", [$slug]));
if (!$cached) {
	$page = pg_fetch_assoc(pg_query_params($db, "SELECT * FROM {$p}pages WHERE slug = $1", [$slug]));
	if (!$page) { http_response_code(404); exit('no such page'); }
	$theme = json_decode($setting('theme'), true);
	$menu = unserialize($setting('menu'));
	$html = "<!DOCTYPE html><title>{$page['title']}</title><base href=\"{$setting('site_url')}/\"><link rel=stylesheet href=\"{$setting('asset_url')}/site.css\">"
		. "<img src=\"{$theme['logo']}\" alt=\"\">{$page['body']}<nav>" . implode('', array_map(fn($u) => "<a href=\"$u\">$u</a>", $menu)) . '</nav>';
	pg_query_params($db, "INSERT INTO {$p}page_cache VALUES ($1, $2)", [$slug, $html]);
	$cached = [$html];
}
echo $cached[0];
