<?php
// Prints the header with which an administrator of the system is logged in over HTTPS.
// Usage: php keeper.php FOLDER
$_SERVER['HTTP_HOST'] = 'ternrock.example';
$_SERVER['REQUEST_URI'] = '/';
$_SERVER['HTTPS'] = 'on';
require $argv[1] . '/wp-load.php';
$until = time() + 3600;
$token = WP_Session_Tokens::get_instance(1)->create($until);
echo 'Cookie: ', SECURE_AUTH_COOKIE, '=', rawurlencode(wp_generate_auth_cookie(1, $until, 'secure_auth', $token)), '; ',
	LOGGED_IN_COOKIE, '=', rawurlencode(wp_generate_auth_cookie(1, $until, 'logged_in', $token)), "\n";
