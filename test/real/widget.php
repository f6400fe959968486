<?php
// Publishes pages whose content holds values inside of other text, or renders one as the system
// does. Usage: php widget.php FOLDER make | render ID
$_SERVER['HTTP_HOST'] = 'ternrock.example';
$_SERVER['REQUEST_URI'] = '/';
require $argv[1] . '/wp-load.php';
if ($argv[2] === 'render') { echo do_blocks(get_post((int) $argv[3])->post_content); exit; }
$publish = fn($title, $body) => wp_insert_post(wp_slash(['post_title' => $title, 'post_content' => $body, 'post_status' => 'publish', 'post_type' => 'post', 'post_author' => 1]));
$site = 'http://ternrock.example';
$block = function ($hash) use ($site) {
	$instance = serialize(['title' => 'Hours', 'text' => "<a href=\"$site/visit\">Visit</a> <img src=\"$site/lamp.png\">", 'filter' => false, 'visual' => false]);
	return '<!-- wp:legacy-widget ' . json_encode(['idBase' => 'text', 'instance' => ['encoded' => base64_encode($instance), 'hash' => $hash ?? wp_hash($instance), 'raw' => new stdClass]]) . ' /-->';
};
$value = serialize(['url' => "$site/media/a.png", 'text' => "it's here"]);
echo json_encode([
	'sealed' => $publish('A widget', $block(null)),
	'foreign' => $publish('A widget from elsewhere', $block(md5('elsewhere'))),
	'layers' => $publish('Layers', '<!-- wp:tern/box ' . json_encode(['e' => $value]) . " /-->\n<input value=\"" . htmlspecialchars($value) . "\">\n"
		. '<a href="https://other.example/?d=' . rawurlencode($value) . "\">x</a>\n<script>var d = " . json_encode(['e' => $value]) . ";</script>\n[tern d=" . base64_encode(rawurlencode("$site/x")) . "x]\n"),
]), "\n";
