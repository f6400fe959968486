<?php
// Installs the content-managed system as its own installer leaves it, with addresses of names and a few pages.
// Usage: php stock.php FOLDER ADDRESS
$site = $argv[2];
$_SERVER['HTTP_HOST'] = parse_url($site, PHP_URL_HOST);
$_SERVER['REQUEST_URI'] = (parse_url($site, PHP_URL_PATH) ?: '') . '/';
define('WP_INSTALLING', true);
require $argv[1] . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
wp_install('Tern Rock Light', 'keeper', 'keeper@ternrock.example', true, '', 'a-made-up-password');
update_option('home', $site);
update_option('siteurl', $site);
switch_theme('twentytwentyone');
global $wp_rewrite;
$wp_rewrite->set_permalink_structure('/%postname%/');
wp_installing(false);
foreach (['Visit', 'History', 'Shop'] as $title) {
	$id = wp_insert_post(['post_title' => $title, 'post_type' => 'page', 'post_status' => 'publish',
		'post_content' => "<p>$title the rock: <a href=\"$site/visit/\">how to come</a>, <img src=\"$site/wp-includes/images/media/default.png\" alt=\"\"></p>"]);
	wp_insert_post(['post_title' => "$title, in detail", 'post_type' => 'page', 'post_parent' => $id, 'post_status' => 'publish', 'post_content' => "<p>More of $title.</p>"]);
}
update_option('widget_text', [2 => ['title' => 'Hours', 'text' => "<img src=\"$site/wp-includes/images/media/archive.png\" alt=\"\">"], '_multiwidget' => 1]);
$wp_rewrite->flush_rules(false);
