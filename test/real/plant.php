<?php
// Plants insecure references into the system, each at one known place, and prints as
// JSON on which page each shows and where it lives. Usage: php plant.php FOLDER
$_SERVER['HTTP_HOST'] = 'ternrock.example';
$_SERVER['REQUEST_URI'] = '/';
require $argv[1] . '/wp-load.php';
$site = 'http://ternrock.example';
$images = $site . '/wp-includes/images';
$publish = function ($title, $body) {
	return wp_insert_post(wp_slash(['post_title' => $title, 'post_content' => $body, 'post_status' => 'publish', 'post_type' => 'post', 'post_author' => 1]));
};
$planted = [];
$plant = function ($url, $page, $place) use (&$planted) { $planted[] = ['url' => $url, 'page' => $page, 'place' => $place]; };

// A post, with an older version of itself that holds the same.
$chart = $publish('The tide chart', '<p>Older words</p><img src="http://charts.tideoffice.example/today.png" alt="">');
wp_update_post(wp_slash(['ID' => $chart, 'post_content' => '<p>Newer words</p><img src="http://charts.tideoffice.example/today.png" alt="">']));
$plant('http://charts.tideoffice.example/today.png', "/?p=$chart", 'post_content, post The tide chart');
$frame = $publish('The webcam', '<video src="' . $site . '/wp-includes/images/blank.gif?cam"></video>');
$plant($site . '/wp-includes/images/blank.gif?cam', "/?p=$frame", 'post_content, post The webcam');
// A page builder's field: JSON with its slashes escaped.
$panel = $publish('A panel', '<p>Its picture is in a field.</p>');
update_post_meta($panel, '_panel', wp_slash(json_encode(['blocks' => [['image' => $images . '/rss.png?panel']]])));
$plant($images . '/rss.png?panel', "/?p=$panel", 'meta_value, field _panel, at JSON .blocks[0].image');
// A serialized setting that every page shows, and a cached copy of it.
update_option('tern_banner', ['show' => true, 'html' => '<img src="' . $images . '/spinner.gif?banner" alt="">']);
set_transient('tern_banner_copy', '<img src="' . $images . '/spinner.gif?banner" alt="">', DAY_IN_SECONDS);
$plant($images . '/spinner.gif?banner', '/', 'option_value, setting tern_banner, at [html]');
// A widget.
$widgets = get_option('widget_custom_html');
$widgets[3]['content'] .= '<img src="' . $images . '/toggle-arrow.png?widget" alt="">';
update_option('widget_custom_html', $widgets);
$plant($images . '/toggle-arrow.png?widget', '/', 'option_value, setting widget_custom_html, at [3][content]');
// A theme setting in a serialized object.
set_theme_mod('tern_logo', (object) ['src' => $images . '/w-logo-blue.png?logo']);
$plant($images . '/w-logo-blue.png?logo', '/', 'option_value, setting theme_mods_twentytwentyone, at [tern_logo]');
// A plug-in's code, and the theme's style sheet.
if (!is_dir($argv[1] . '/wp-content/mu-plugins')) mkdir($argv[1] . '/wp-content/mu-plugins');
file_put_contents($argv[1] . '/wp-content/mu-plugins/tern.php', '<?php
add_action("wp_footer", function () {
	echo get_option("tern_banner")["html"], "<img src=\"" . get_theme_mod("tern_logo")->src . "\" alt=\"\">";
	foreach (json_decode(get_post_meta(get_the_ID(), "_panel", true) ?: "{}")->blocks ?? [] as $b) echo "<img src=\"$b->image\" alt=\"\">";
	echo "<script src=\"http://www.ternrock.example/wp-includes/js/hoverIntent.min.js?planted\"></script>";
});
');
$plant('http://www.ternrock.example/wp-includes/js/hoverIntent.min.js?planted', '/', 'wp-content/mu-plugins/tern.php:5');
$style = $argv[1] . '/wp-content/themes/twentytwentyone/style.css';
file_put_contents($style, file_get_contents($style) . "\nbody { background-image: url(http://www.ternrock.example/wp-includes/images/blank.gif?style) }\n");
$plant('http://www.ternrock.example/wp-includes/images/blank.gif?style', '/', 'wp-content/themes/twentytwentyone/style.css:' . substr_count(file_get_contents($style), "\n"));
echo json_encode($planted, JSON_UNESCAPED_SLASHES), "\n";
