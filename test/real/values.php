<?php
// Writes every cell of the tables with a prefix as JSON lines: "table column key",
// and the value in a form that can be compared. A serialized value is decoded by
// PHP itself and written again; it must load. With the word "expected" every
// own insecure reference inside is made secure first, by walking the decoded
// value. Usage: php values.php SOCKET DATABASE PREFIX (plain|expected)
[$self, $socket, $database, $prefix, $mode] = $argv;
$db = new mysqli('localhost', 'root', '', $database, 0, $socket);
$db->set_charset('utf8mb4');

function secure(string $s): string {
	$host = '(?:www\.)?ternrock\.example';
	foreach (['://', ':\/\/', ':\\\\\/\\\\\/', '%3A%2F%2F'] as $sep) {
		$s = preg_replace('#\b(http)(' . preg_quote($sep, '#') . $host . ')(?::80)?(?![\w:-]|\.[\w])#i', '$1~$2', $s);
	}
	return preg_replace_callback('#(http)~#i', fn($m) => $m[1] . (ctype_upper($m[1][3]) ? 'S' : 's'), $s);
}
function walk($v) {
	if (is_string($v)) {
		$inner = @unserialize($v);
		if ($inner !== false && preg_match('/^[aOs]:/', $v)) return serialize(walk($inner));
		return secure($v);
	}
	if (is_array($v)) {
		$out = [];
		foreach ($v as $k => $x) $out[is_string($k) ? secure($k) : $k] = walk($x);
		return $out;
	}
	if (is_object($v)) {
		foreach (get_object_vars($v) as $k => $x) $v->$k = walk($x);
	}
	return $v;
}
$count = 0;
foreach ($db->query("SHOW TABLES LIKE '" . addcslashes($prefix, '_%') . "%'")->fetch_all() as [$table]) {
	$rows = $db->query("SELECT * FROM `$table`");
	$short = substr($table, strlen($prefix));
	while ($row = $rows->fetch_assoc()) {
		foreach ($row as $column => $value) {
			if (!is_string($value)) continue;
			$stays = $short == 'posts' && $column == 'guid' || $short == 'options' && preg_match('/^_(site_)?transient_|^broken_import$/', $row['option_name']);
			$decoded = @unserialize($value);
			if ($decoded !== false && preg_match('/^[aOs]:\d+:/', $value)) {
				$count++;
				if ($mode == 'expected' && !$stays) $decoded = walk($decoded);
				$value = serialize($decoded);
			} elseif ($mode == 'expected' && !$stays) {
				$value = secure($value);
			}
			echo json_encode([$table, $column, reset($row), base64_encode($value)]), "\n";
		}
	}
}
fwrite(STDERR, "$count\n");
