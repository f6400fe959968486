<?php
// Writes values in which a careless replacement of http:// by https:// broke the lengths, in
// layers of random order; reads back what became of each, and holds it against what a careful
// replacement gives, byte for byte.
// Usage: php mend.php SEED COUNT BATCH CLASS. Ends with a line of JSON on standard error.
[$self, $seed, $count, $batch, $class] = $argv;
mt_srand((int) $seed);
function pick(array $a) { return $a[mt_rand(0, count($a) - 1)]; }
class Lamp { public $u; protected $p = 'tern'; public $v; }
function text(): string {
	$s = '';
	for ($i = mt_rand(0, 3); $i >= 0; $i--) $s .= pick(['lamp ', "caf\u{e9} ", '";', "it's ", 'a:1:{', '<a href="', 'https://other.example/ ', '']) . (mt_rand(0, 2) ? 'http://ternrock.example/' . mt_rand(0, 99) . pick(['', ' ', '";']) : '');
	return $s;
}
$json = JSON_UNESCAPED_SLASHES;
$layers = [
	'array' => fn($x) => serialize(['k' => $x, 'http://ternrock.example/' . strlen($x) => 1, 'n' => ['tern', $x]]),
	'string' => fn($x) => serialize($x),
	'object' => function ($x) { $l = new Lamp; $l->u = $x; $l->v = [$x, 'http://ternrock.example/v']; return serialize($l); },
	'custom' => fn($x) => 'C:11:"ArrayObject":' . strlen($p = 'x:i:0;a:1:{s:1:"u";' . serialize($x) . '};m:a:0:{}') . ':{' . $p . '}',
	'json' => fn($x) => json_encode(['a' => 1, 'e' => $x], $json),
	'slashed' => fn($x) => addslashes($x),
	'block' => fn($x) => '<!-- wp:x ' . json_encode(['e' => $x], $json) . ' /-->',
	'attribute' => fn($x) => '<input value="' . htmlspecialchars($x) . '">',
	'session' => fn($x) => 'lamp|i:1;cart|' . serialize(['u' => $x]),
];
$broken = ['array', 'string', 'object', 'custom', 'session'];
if ($class === 'list') { echo "plain\nnested\nmixed\n"; exit; }
// careful builds it with the references secure from the beginning.
function careful(string $text, array $order): ?string {
	global $layers;
	$x = str_replace('http://', 'https://', $text);
	foreach ($order as $l) {
		$plain = $layers[$l]($x);
		if (!is_string($plain)) return null;
		// The keys and texts that the layer itself brings.
		if ($l === 'array') $plain = serialize(['k' => $x, 'https://ternrock.example/' . strlen($x) => 1, 'n' => ['tern', $x]]);
		if ($l === 'object') { $o = new Lamp; $o->u = $x; $o->v = [$x, 'https://ternrock.example/v']; $plain = serialize($o); }
		$x = $plain;
	}
	return $x;
}
function careless(string $text, array $order): ?string {
	global $layers;
	$x = $text;
	$y = str_replace('http://', 'https://', $text);
	foreach ($order as $l) {
		// The array's key tells the length of what a careful hand would have put there.
		if ($l === 'array') $x = serialize(['k' => $x, 'http://ternrock.example/' . strlen($y) => 1, 'n' => ['tern', $x]]);
		else $x = $layers[$l]($x);
		if (!is_string($x)) return null;
		$y = careful($text, array_slice($order, 0, ++$GLOBALS['depth'])) ?? '';
	}
	return str_replace('http://', 'https://', $x);
}
function order(): array {
	global $class, $layers, $broken;
	if ($class === 'plain') return [pick($broken)];
	if ($class === 'nested') return [pick($broken), pick($broken), pick($broken)];
	$order = [pick($broken)];
	for ($i = mt_rand(0, 3); $i > 0; $i--) $order[] = pick(array_keys($layers));
	return $order;
}
function read($n) { $s = ''; while (strlen($s) < $n) { $got = fread(STDIN, $n - strlen($s)); if ($got === false || $got === '') { fwrite(STDERR, "cut off\n"); exit(1); } $s .= $got; } return $s; }
$wrong = $changed = $left = $missed = 0; $lefts = [];
for ($done = 0; $done < $count; $done += count($sent)) {
	$sent = [];
	while (count($sent) < min($batch, $count - $done)) {
		$text = text(); $order = order(); $depth = 0;
		if (strpos($text, 'http://') === false || str_ends_with($text, '";')) continue; // the second could be read either way
		$s = careless($text, $order); $want = careful($text, $order);
		if ($s === null || $want === null || $s === $want) continue;
		$sent[] = [$s, $want, $order];
		fwrite(STDOUT, pack('V', strlen($s)) . $s);
	}
	fflush(STDOUT);
	foreach ($sent as [$s, $want, $order]) {
		$got = read(unpack('V', read(4))[1]);
		$named = read(1) === "\1";
		if ($got === $want) { $changed++; continue; }
		if ($got === $s && $named) { $left++; $k = implode('-', $order); $lefts[$k] = ($lefts[$k] ?? 0) + 1; if (getenv('SHOW_LEFT') && $left < 8) fwrite(STDERR, "left: $k: " . addcslashes(substr($s, 0, 500), "\0..\37\177..\377") . "\n"); continue; }
		if ($got === $s) $missed++;
		if ($wrong++ < 8) fwrite(STDERR, implode(', ', $order) . ($got === $s ? ': missed in silence' : ': wrong') . "\n  value    " . addcslashes(substr($s, 0, 500), "\0..\37\177..\377") . "\n  became   " . addcslashes(substr($got, 0, 500), "\0..\37\177..\377") . "\n  expected " . addcslashes(substr($want, 0, 500), "\0..\37\177..\377") . "\n");
	}
}
arsort($lefts);
fwrite(STDERR, json_encode(['values' => $done, 'changed' => $changed, 'left' => $left, 'missed' => $missed, 'wrong' => $wrong, 'where' => (object) array_slice($lefts, 0, 12)]) . "\n");
