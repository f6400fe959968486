<?php
// Writes posts, fields and options with accents and emoji through the system's own functions, or prints
// what the system reads of them. Usage: php accents.php FOLDER make|read
$_SERVER['HTTP_HOST'] = 'ternrock.example';
$_SERVER['REQUEST_URI'] = '/';
require $argv[1] . '/wp-load.php';
$texts = [
	'accents' => 'Türme, phare à Ré, maják, ß',
	'emoji' => 'The lamp 😀 turns 🗼 at night',
	'scripts' => '灯台 Маяк φάρος مناره',
];
if ($argv[2] === 'make') {
	foreach ($texts as $name => $text) {
		$url = "http://ternrock.example/media/$name.jpg";
		$id = wp_insert_post(wp_slash(['post_title' => $text, 'post_content' => "<p>$text <img src=\"$url\"> $text</p>", 'post_status' => 'publish', 'post_name' => "zoo-$name"]));
		if (is_int($id) && $id > 0) update_post_meta($id, '_zoo', wp_slash(['text' => $text, 'url' => "$url?$text", 'more' => [$text => 1]]));
		update_option("zoo_$name", ['text' => $text, 'url' => $url, 'again' => $text]);
	}
}
global $wpdb;
$out = ['charset' => $wpdb->charset];
foreach ($texts as $name => $text) {
	$post = get_page_by_path("zoo-$name", OBJECT, 'post');
	$out[$name] = $post ? [$post->post_title, $post->post_content, get_post_meta($post->ID, '_zoo', true), apply_filters('the_content', $post->post_content)] : null;
	$out["option $name"] = get_option("zoo_$name");
}
echo json_encode($out, JSON_UNESCAPED_UNICODE | JSON_UNESCAPED_SLASHES | JSON_PARTIAL_OUTPUT_ON_ERROR);
