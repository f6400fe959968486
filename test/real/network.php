<?php
// Makes a network of sites of the installed system through its own functions.
// Usage: php network.php FOLDER network|sites
$_SERVER['HTTP_HOST'] = 'ternrock.example';
$_SERVER['REQUEST_URI'] = '/';
if ($argv[2] === 'network') {
	define('WP_ALLOW_MULTISITE', true);
}
require $argv[1] . '/wp-load.php';
require_once ABSPATH . 'wp-admin/includes/upgrade.php';
if ($argv[2] === 'network') {
	foreach ($wpdb->tables('ms_global') as $table => $prefixed) $wpdb->$table = $prefixed;
	install_network();
	$done = populate_network(1, 'ternrock.example', 'keeper@ternrock.example', 'Tern Rock Light', '/', true);
	if (is_wp_error($done) && $done->get_error_code() !== 'no_wildcard_dns') { fwrite(STDERR, $done->get_error_message() . "\n"); exit(1); }
	exit(0);
}
foreach (['shop', 'stories'] as $n => $name) {
	$site = "http://$name.ternrock.example";
	$id = wpmu_create_blog("$name.ternrock.example", '/', ucfirst($name), 1, ['public' => 1], 1);
	if (is_wp_error($id)) { fwrite(STDERR, $id->get_error_message() . "\n"); exit(1); }
	wp_installing(false);
	switch_to_blog($id);
	update_option('home', $site);
	update_option('siteurl', $site);
	for ($i = 0; $i < 30; $i++) {
		$post = wp_insert_post(wp_slash(['post_title' => "$name $i", 'post_status' => 'publish', 'post_content' => "<p><a href=\"$site/?p=$i\">here</a> <img src=\"http://ternrock.example/wp-content/uploads/$i.jpg\" alt=\"\"></p>"]));
		update_post_meta($post, '_field', ['url' => "$site/f$i", 'main' => 'http://www.ternrock.example/']);
	}
	set_transient('front', "<a href=\"$site/\">cached</a>", 3600);
	update_option('widget_text', [2 => ['text' => "<img src=\"$site/w.png\">"], '_multiwidget' => 1]);
	restore_current_blog();
	echo $id, "\n";
}
set_site_transient('network_news', 'see http://ternrock.example/news/', 3600);
update_site_option('welcome', ['mail' => 'Welcome to http://shop.ternrock.example/']);
