<?php
// Edits the system through its own functions, as editors and visitors do, until a
// file appears; then prints as JSON what must be there in the end. With a third word
// it reads such a list and prints what is not there any more.
// Usage: php edit.php FOLDER STOPFILE | php edit.php FOLDER - LIST
$_SERVER['HTTP_HOST'] = 'ternrock.example';
$_SERVER['REQUEST_URI'] = '/';
require $argv[1] . '/wp-load.php';
global $wpdb;
if (isset($argv[3])) {
	$lost = [];
	foreach (json_decode(file_get_contents($argv[3]), true) as $what => $mark) {
		[$kind, $id] = explode(' ', $what, 2);
		$now = match ($kind) {
			'post' => get_post((int)$id)?->post_content,
			'field' => get_post_meta((int)$id, '_edited', true)['deep']['text'] ?? null,
			'option' => get_option($id)['deep']['text'] ?? null,
			'gone' => get_post((int)$id) ? '' : $mark,
		};
		if (!is_string($now) || !str_contains($now, $mark)) $lost[] = "$what: $mark, not " . var_export($now, true);
	}
	echo json_encode($lost);
	exit;
}
$url = 'http://ternrock.example/edited';
$posts = $wpdb->get_col("SELECT ID FROM $wpdb->posts WHERE post_type = 'post' ORDER BY ID");
$must = [];
for ($n = 0; !file_exists($argv[2]); $n++) {
	$id = (int)$posts[$n * 37 % count($posts)];
	switch ($n % 5) {
	case 0:
		if (get_post($id)) {
			wp_update_post(wp_slash(['ID' => $id, 'post_content' => "<p>edit $n. <a href=\"$url/$n\">see</a></p>"]));
			$must["post $id"] = "edit $n.";
		}
		break;
	case 1:
		update_post_meta($id, '_edited', ['deep' => ['text' => "field $n. $url/$n"]]);
		if (get_post($id)) $must["field $id"] = "field $n.";
		break;
	case 2:
		update_option('tern_edited_' . $n % 7, ['deep' => ['text' => "option $n. $url/$n", 'n' => $n]]);
		$must['option tern_edited_' . $n % 7] = "option $n.";
		break;
	case 3:
		$new = wp_insert_post(wp_slash(['post_title' => "New $n", 'post_content' => "new $n. <img src=\"$url/$n.png\">", 'post_status' => 'publish', 'post_author' => 1]));
		$must["post $new"] = "new $n.";
		break;
	case 4:
		if ($n % 15 == 4) {
			wp_delete_post($id, true);
			unset($must["post $id"], $must["field $id"]);
			$must["gone $id"] = 'gone';
		}
	}
}
echo json_encode($must);
