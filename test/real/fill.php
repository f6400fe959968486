<?php
// Installs the content-managed system through its own installer function and
// fills it through its own functions. Usage: php fill.php FOLDER
$_SERVER['HTTP_HOST'] = 'ternrock.example';
$_SERVER['REQUEST_URI'] = '/';
define('WP_INSTALLING', true);
require $argv[1] . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
$site = 'http://ternrock.example';
$done = wp_install('Tern Rock Light', 'keeper', 'keeper@ternrock.example', true, '', 'a-made-up-password');
update_option('home', $site);
update_option('siteurl', $site);
switch_theme('twentytwentyone');
wp_cache_flush();
wp_installing(false); // from here on it works as it does every day

mt_srand(1871);
$words = ['lamp', 'tower', 'tide', 'causeway', 'keeper', 'lens', 'gallery', 'boat', 'fog', 'signal', 'granite', 'terns', 'oak', 'bronze', 'prism', 'wick'];
$some = function ($n) use ($words) {
	$out = [];
	for ($i = 0; $i < $n; $i++) $out[] = $words[mt_rand(0, count($words) - 1)];
	return implode(' ', $out);
};
$ids = [];
for ($i = 0; $i < 320; $i++) {
	$body = '<!-- wp:image {"url":"' . $site . '/wp-content/uploads/p' . $i . '.jpg"} --><figure class="wp-block-image"><img src="' . $site . '/wp-content/uploads/p' . $i . '.jpg" srcset="'
		. $site . '/wp-content/uploads/p' . $i . '-300.jpg 300w, http://www.ternrock.example/wp-content/uploads/p' . $i . '-600.jpg 600w" alt=""/></figure><!-- /wp:image -->'
		. '<p>' . $some(40) . ' <a href="' . $site . '/?p=' . max(1, $i) . '">' . $some(3) . '</a> ' . $some(20) . '</p>';
	if ($i % 5 == 0) $body .= '<p>Not us: <a href="http://ternrock.example.org/">a namesake</a>, nor http://shop.ternrock.example/.</p>';
	if ($i % 7 == 0) $body .= '<p><a href="https://share.example/?u=http%3A%2F%2Fternrock.example%2F%3Fp%3D' . $i . '&amp;t=x">share</a> HTTP://TERNROCK.EXAMPLE:80/old/</p>';
	if ($i % 11 == 0) $body .= '<p>A friend: <a href="http://seabirdcount.example/">the count</a>. ' . "Caf\u{e9}, \u{1F426}, \u{65e5}\u{672c}" . '</p>';
	$id = wp_insert_post(wp_slash(['post_title' => ucfirst($some(4)), 'post_content' => $body, 'post_status' => 'publish', 'post_type' => $i % 16 == 0 ? 'page' : 'post', 'post_author' => 1]), true);
	if (is_wp_error($id)) { fwrite(STDERR, $id->get_error_message() . "\n"); exit(1); }
	$ids[] = $id;
	$o = new stdClass; // objects, nested, with what practice has in them
	$o->url = $site . '/wp-content/uploads/f' . $i . '.pdf';
	$o->inner = [$site, ['deep' => $site . ':80/x/' . "\u{e9}", 'n' => 1.5, 'null' => null, 'yes' => true], (object) ['link' => "http://www.ternrock.example/?p=$i"]];
	update_post_meta($id, '_field_object', wp_slash_strings_deep($o));
	update_post_meta($id, '_builder', wp_slash(json_encode([['id' => "b$i", 'settings' => ['image' => ['url' => $site . "/wp-content/uploads/p$i.jpg", 'id' => $i], 'html' => '<a href="' . $site . '/">home</a>']]])));
	if ($i % 3 == 0) update_post_meta($id, '_nested', ['json' => wp_slash(json_encode(['u' => $site . '/a'])), 'again' => serialize(['u' => $site . '/b', 'list' => [1, 2, $site]]), $site . '/key' => 'a key']);
	if ($i % 4 == 0) wp_insert_comment(['comment_post_ID' => $id, 'comment_author' => $some(1), 'comment_author_url' => $i % 8 ? $site . '/friends/' : 'http://neighbour.example/',
		'comment_content' => $some(12) . ' <img src="' . $site . '/wp-content/uploads/c' . $i . '.png" />', 'comment_approved' => 1]);
}
// Widgets, theme settings, menus, other settings.
update_option('widget_text', [2 => ['title' => 'Hours', 'text' => '<p><a href="' . $site . '/hours/">When</a> <img src="' . $site . '/wp-content/uploads/clock.png"></p>', 'filter' => true], '_multiwidget' => 1]);
update_option('widget_custom_html', [3 => ['title' => 'Map', 'content' => '<img src="' . $site . '/wp-content/uploads/map.png" alt="map">'], '_multiwidget' => 1]);
update_option('sidebars_widgets', ['wp_inactive_widgets' => [], 'sidebar-1' => ['text-2', 'custom_html-3'], 'array_version' => 3]);
set_theme_mod('background_image', $site . '/wp-content/uploads/waves.png');
set_theme_mod('header_data', (object) ['url' => $site . '/wp-content/uploads/header.png', 'width' => 1200]);
update_option('museum_settings', ['logo' => $site . '/wp-content/uploads/logo.svg', 'api' => json_encode(['endpoint' => $site . '/wp-json/']), 'float' => 0.1, 'big' => PHP_INT_MAX]);
$menu = wp_create_nav_menu('Main');
wp_update_nav_menu_item($menu, 0, ['menu-item-title' => 'Visit', 'menu-item-url' => $site . '/visit/', 'menu-item-status' => 'publish', 'menu-item-type' => 'custom']);
set_theme_mod('nav_menu_locations', ['primary' => $menu]);
set_transient('museum_front', '<a href="' . $site . '/">cached</a>', 30 * DAY_IN_SECONDS);
set_transient('museum_feed', ['items' => [$site . '/a', $site . '/b']], 30 * DAY_IN_SECONDS);
global $wpdb; // one value that an earlier careless replacement broke
$wpdb->insert($wpdb->options, ['option_name' => 'broken_import', 'option_value' => 'a:1:{s:1:"u";s:9:"' . $site . '/";}', 'autoload' => 'no']);
echo json_encode(['posts' => count($ids), 'post' => $ids[1]]), "\n";

function wp_slash_strings_deep($v) { return $v; } // objects are stored as they are
