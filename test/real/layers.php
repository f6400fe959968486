<?php
// Writes random texts, wrapped in layers, in batches; reads back what became of each
// and unwraps it with PHP's own functions. A text comes out with its references secure, or as
// it was where the answer names what was left; anything else is wrong.
// Usage: php layers.php SEED COUNT BATCH CLASS|mixed. Ends with a line of JSON on
// standard error. "list" as the class prints the names of all classes.
[$self, $seed, $count, $batch, $class] = $argv;
mt_srand((int) $seed);

const OURS = ['ternrock.example', 'www.ternrock.example', 'TernRock.example'];
const THEIRS = ['ternrock.example.org', 'nternrock.example', 'x.ternrock.example', 'other.example', 'ternrock.example:8080'];
function pick(array $a) { return $a[mt_rand(0, count($a) - 1)]; }
function reference(): string {
	return pick(['http', 'http', 'http', 'HTTP', 'Http', 'hTTp', 'ws']) . '://' . (mt_rand(0, 4) ? pick(OURS) : pick(THEIRS)) . pick(['', '/', '/a/b.png', '/p?q=1', '/#top', '/lamp-' . mt_rand()]);
}
function text(): string {
	$s = '';
	for ($i = mt_rand(0, 3); $i >= 0; $i--) {
		$s .= pick(['', 'lamp ', "caf\u{e9} ", "\u{65e5}\u{672c}", "it's ", 'a & b ', '<a href="', "\n", "\u{201c}", '\\ ', "\t", 'x="1" ', '100% ', 'tern+keeper ', "\u{1f600}"]);
		if (mt_rand(0, 3)) $s .= reference() . pick([' ', '"', "\n", ', ', "\u{201d}", '.']);
		$s .= pick(['', 'and ', 'the tower ', ')', '> ']);
	}
	return $s;
}
// What PHP makes of a text: its own regular expressions.
function secure(string $s): string {
	return preg_replace_callback('~(?<![A-Za-z0-9])(http|ws)(://)((?:www\.)?ternrock\.example)(?![A-Za-z0-9.@:_-][A-Za-z0-9])~i', fn($m) => $m[1] . (ctype_upper(substr($m[1], -1)) ? 'S' : 's') . $m[2] . $m[3], $s);
}
class Lamp { public $u; protected $p = 'tern'; public $n = 7; }
class Box implements Serializable { public $d; function serialize() { return serialize($this->d); } function unserialize($s) { $this->d = unserialize($s); } function __serialize(): array { return [$this->d]; } function __unserialize(array $a): void { $this->d = $a[0]; } }
function utf8(string $s): bool { return mb_check_encoding($s, 'UTF-8'); }
function between(string $s, string $from, string $to): ?string {
	if (!str_starts_with($s, $from) || !str_ends_with($s, $to)) return null;
	return substr($s, strlen($from), strlen($s) - strlen($from) - strlen($to));
}
function unjson(?string $j, string $key): ?string { $v = $j === null ? null : json_decode($j, true); return is_array($v) && is_string($v[$key] ?? null) ? $v[$key] : null; }
function unser(?string $s) { try { return $s === null ? false : @unserialize($s); } catch (Throwable $e) { return false; } }
function sqlQuote(string $s): string { return str_replace(['\\', "\0", "\n", "\r", "'", '"', "\x1a"], ['\\\\', '\\0', '\\n', '\\r', "\\'", '\\"', '\\Z'], $s); }
function sqlPlain(string $s): string { return preg_replace_callback('/\\\\(.)/s', fn($m) => ['0' => "\0", 'n' => "\n", 'r' => "\r", 'Z' => "\x1a", 't' => "\t", 'b' => "\x08"][$m[1]] ?? $m[1], $s); }
function flags(): int { return pick([0, JSON_UNESCAPED_SLASHES, JSON_UNESCAPED_UNICODE, JSON_UNESCAPED_SLASHES | JSON_UNESCAPED_UNICODE, JSON_HEX_QUOT | JSON_HEX_TAG | JSON_HEX_AMP | JSON_HEX_APOS]); }
function url64(string $s): string { return rtrim(strtr(base64_encode($s), '+/', '-_'), '='); }
function un64(?string $s): ?string { if ($s === null) return null; $d = base64_decode(strtr(str_replace(["\r", "\n"], '', $s), '-_', '+/'), true); return $d === false ? null : $d; }

// Each layer: what it takes (null: anything), how it wraps and how it unwraps. Unwrapping
// gives null where it cannot be done.
$layers = [
	'array' => [null, fn($x) => serialize(['lamp' => 1, 'x' => $x, 'tail' => 'tern']), fn($s) => is_array($v = unser($s)) && ($v['tail'] ?? '') === 'tern' && is_string($v['x']) ? $v['x'] : null],
	'string' => [null, fn($x) => serialize($x), fn($s) => is_string($v = unser($s)) ? $v : null],
	'object' => [null, function ($x) { $l = new Lamp; $l->u = $x; return serialize($l); }, fn($s) => ($v = unser($s)) instanceof Lamp && $v->n === 7 ? $v->u : null],
	'custom' => [null, fn($x) => 'C:11:"ArrayObject":' . strlen($p = 'x:i:0;a:1:{s:1:"u";' . serialize($x) . '};m:a:0:{}') . ':{' . $p . '}', fn($s) => ($v = unser($s)) instanceof ArrayObject ? $v['u'] : null],
	'session' => [fn($x) => true, fn($x) => 'lamp|i:1;cart|' . serialize(['u' => $x]) . 'tail|b:1;', function ($s) { $p = between($s, 'lamp|i:1;cart|', 'tail|b:1;'); $v = unser($p); return is_array($v) ? $v['u'] : null; }],
	'json' => ['utf8', fn($x) => json_encode(['a' => 1, 'e' => $x, 'l' => [1, null]], flags()), fn($s) => unjson($s, 'e')],
	'block' => ['utf8', fn($x) => '<!-- wp:x ' . json_encode(['e' => $x], flags() | JSON_HEX_TAG | JSON_HEX_AMP) . " /-->\n<p>lamp</p>", fn($s) => unjson(between($s, '<!-- wp:x ', " /-->\n<p>lamp</p>"), 'e')],
	'script' => ['utf8', fn($x) => '<script>var d = ' . json_encode(['e' => $x], flags() | JSON_HEX_TAG) . ';</script>', fn($s) => unjson(between($s, '<script>var d = ', ';</script>'), 'e')],
	'jsonp' => ['utf8', fn($x) => 'show(' . json_encode(['e' => $x], flags()) . ');', fn($s) => unjson(between($s, 'show(', ');'), 'e')],
	'lines' => ['utf8', fn($x) => '{"a":1}' . "\n" . json_encode(['e' => $x], flags()) . "\n", fn($s) => unjson(between($s, '{"a":1}' . "\n", "\n"), 'e')],
	'bom' => ['utf8', fn($x) => "\u{feff}" . json_encode(['e' => $x], flags()), fn($s) => unjson(between($s, "\u{feff}", ''), 'e')],
	'literal' => ['utf8', fn($x) => '<script>let d = {e: ' . json_encode($x, flags() | JSON_HEX_TAG) . ', n: 1,};</script>', fn($s) => is_string($v = json_decode(between($s, '<script>let d = {e: ', ', n: 1,};</script>') ?? '')) ? $v : null],
	'attribute' => ['utf8', fn($x) => '<input name="x" value="' . htmlspecialchars($x) . '">', fn($s) => ($v = between($s, '<input name="x" value="', '">')) === null ? null : htmlspecialchars_decode($v)],
	'data' => ['utf8', fn($x) => "<div data-x='" . htmlspecialchars(json_encode(['e' => $x], flags())) . "'>lamp</div>", fn($s) => ($v = between($s, "<div data-x='", "'>lamp</div>")) === null ? null : unjson(htmlspecialchars_decode($v), 'e')],
	'query' => [null, fn($x) => '<a href="https://other.example/?d=' . rawurlencode($x) . '&amp;n=1">', fn($s) => ($v = between($s, '<a href="https://other.example/?d=', '&amp;n=1">')) === null ? null : rawurldecode($v)],
	'form' => [null, fn($x) => '[lamp d=' . urlencode($x) . ']', fn($s) => ($v = between($s, '[lamp d=', ']')) === null ? null : urldecode($v)],
	'percent' => [null, fn($x) => rawurlencode($x), fn($s) => rawurldecode($s)],
	'slashed' => [null, fn($x) => addslashes($x), fn($s) => stripslashes($s)],
	'sql' => [null, fn($x) => "INSERT INTO t VALUES (1, '" . sqlQuote($x) . "', 2);", fn($s) => ($v = between($s, "INSERT INTO t VALUES (1, '", "', 2);")) === null ? null : sqlPlain($v)],
	'doubled' => [null, fn($x) => "INSERT INTO t VALUES (1, '" . str_replace("'", "''", $x) . "');", fn($s) => ($v = between($s, "INSERT INTO t VALUES (1, '", "');")) === null ? null : str_replace("''", "'", $v)],
	'php' => [null, fn($x) => "<?php \$x = '" . addcslashes($x, "'\\") . "';\n", fn($s) => ($v = between($s, "<?php \$x = '", "';\n")) === null ? null : preg_replace("/\\\\(['\\\\])/", '$1', $v)],
	'base64' => [null, fn($x) => base64_encode($x), fn($s) => un64($s)],
	'base64url' => [null, fn($x) => url64($x), fn($s) => un64($s)],
	'lined' => [null, fn($x) => rtrim(chunk_split(base64_encode($x), 76, pick(["\n", "\r\n"]))), fn($s) => un64($s)],
	'coded' => [null, fn($x) => '<a href="https://other.example/go?d=' . urlencode(base64_encode($x)) . '&amp;n=1">', fn($s) => ($v = between($s, '<a href="https://other.example/go?d=', '&amp;n=1">')) === null ? null : un64(urldecode($v))],
	'path' => [null, fn($x) => '<img src="https://other.example/img/' . url64($x) . '/x.jpg">', fn($s) => un64(between($s, '<img src="https://other.example/img/', '/x.jpg">'))],
	'quoted' => [null, fn($x) => 'x=%22' . urlencode(base64_encode($x)) . '%22', fn($s) => ($v = between($s, 'x=%22', '%22')) === null ? null : un64(urldecode($v))],
	'short' => [null, fn($x) => '[raw_html]' . base64_encode(rawurlencode($x)) . '[/raw_html]', fn($s) => ($v = un64(between($s, '[raw_html]', '[/raw_html]'))) === null ? null : rawurldecode($v)],
	'dataurl' => ['utf8', fn($x) => '<img src="data:image/svg+xml;base64,' . base64_encode('<svg>' . $x . '</svg>') . '">', fn($s) => between(un64(between($s, '<img src="data:image/svg+xml;base64,', '">')) ?? '', '<svg>', '</svg>')],
	'gzip' => [null, fn($x) => gzencode($x), fn($s) => ($v = @gzdecode($s)) === false ? null : $v],
	'zlib' => [null, fn($x) => gzcompress($x), fn($s) => ($v = @gzuncompress($s)) === false ? null : $v],
	'deflate' => [null, fn($x) => gzdeflate($x), fn($s) => ($v = @gzinflate($s)) === false ? null : $v],
	'compress' => [null, fn($x) => pack('V', strlen($x)) . gzcompress($x), fn($s) => ($v = @gzuncompress(substr($s, 4))) === false || strlen($v) !== unpack('V', $s)[1] ? null : $v],
	'words' => ['utf8', fn($x) => "<p>The lamp: $x</p>\n", fn($s) => between($s, '<p>The lamp: ', "</p>\n")],
];
$packed = ['gzip', 'zlib', 'deflate', 'compress'];
$around = ['base64', 'base64url', 'lined', 'coded', 'quoted', 'array', 'string', 'object', 'custom', 'session'];
$carriers = array_merge($around, ['percent', 'query', 'form', 'sql']); // of what has a mark of its own
// Classes are fixed orders of layers, the innermost first.
$classes = [];
foreach (array_keys($layers) as $l) if ($l != 'words') $classes[$l] = [$l];
foreach (['attribute', 'data', 'query', 'form', 'percent', 'block', 'script', 'jsonp', 'lines', 'bom', 'literal', 'slashed', 'sql', 'doubled', 'php', 'json', 'base64', 'lined', 'coded', 'path', 'quoted', 'short', 'words'] as $l) {
	$classes["array-$l"] = ['array', $l];
	if ($l != 'words') $classes["object-$l"] = ['object', $l];
}
$classes += ['query-twice' => ['array', 'percent', 'query'], 'json-percent' => ['array', 'json', 'percent', 'query'], 'json-attribute' => ['array', 'json', 'attribute'], 'json-json' => ['array', 'json', 'json', 'block'],
	'base64-array-percent' => ['base64', 'array', 'percent'], 'base64-json' => ['base64', 'json'], 'base64-base64' => ['base64', 'base64'], 'base64-path' => ['base64', 'path'], 'base64-quoted' => ['base64', 'quoted'],
	'zlib-base64' => ['zlib', 'base64'], 'gzip-base64' => ['gzip', 'base64'], 'deflate-base64' => ['deflate', 'base64'], 'gzip-array' => ['gzip', 'array'], 'array-gzip' => ['array', 'gzip'], 'array-zlib-array' => ['array', 'zlib', 'array'],
	'custom-attribute' => ['custom', 'attribute'], 'session-base64' => ['session', 'base64'], 'array-array-attribute' => ['array', 'array', 'attribute'], 'array-json-sql' => ['array', 'json', 'sql'], 'slashed-array' => ['slashed', 'array'],
	'gzip-percent' => ['gzip', 'percent'], 'zlib-query' => ['zlib', 'query'], 'zlib-form' => ['zlib', 'form'], 'gzip-sql' => ['gzip', 'sql'], 'compress-sql' => ['compress', 'sql'], 'array-zlib-sql' => ['array', 'zlib', 'sql'], 'zlib-session' => ['zlib', 'session']];
if ($class === 'list') { echo implode("\n", array_keys($classes)), "\n"; exit; }

// wrap puts layers around a text; null where one cannot be put.
function wrap(string $x, array $order): ?string {
	global $layers, $carriers, $around, $packed, $class;
	foreach ($order as $l) {
		if ($class === 'mixed' && !utf8($x) && !in_array($l, in_array('deflate', $order) ? $around : $carriers) && !in_array($l, $packed)) return null; // nobody does
		if ($layers[$l][0] === 'utf8' && !utf8($x)) return null;
		$x = $layers[$l][1]($x);
		if (!is_string($x)) return null;
	}
	return $x;
}
function unwrap(string $s, array $order): ?string {
	global $layers;
	foreach (array_reverse($order) as $l) {
		$s = $layers[$l][2]($s);
		if (!is_string($s)) return null;
	}
	return $s;
}
function order(): array {
	global $layers, $classes, $class;
	if ($class !== 'mixed') return $classes[$class];
	$order = [];
	global $packed, $around, $carriers;
	for ($i = mt_rand(1, 5); $i > 0; $i--) { // nobody writes compressed bytes into other text as they are
		$last = end($order);
		$order[] = pick(!in_array($last, $packed) ? array_keys($layers) : ($last === 'deflate' ? $around : $carriers));
	}
	return $order;
}
function read($n) { $s = ''; while (strlen($s) < $n) { $got = fread(STDIN, $n - strlen($s)); if ($got === false || $got === '') { fwrite(STDERR, "cut off\n"); exit(1); } $s .= $got; } return $s; }

$wrong = $changed = $left = $missed = 0; $lefts = [];
for ($done = 0; $done < $count; $done += count($sent)) {
	$sent = []; $tries = 0;
	while (count($sent) < min($batch, $count - $done)) {
		$text = text(); $order = order();
		$s = wrap($text, $order);
		if ($s === null || unwrap($s, $order) !== $text) { // the layer does not give it back itself
			if (++$tries > 100 * $batch) { fwrite(STDERR, "no values of $class\n"); exit(1); }
			continue;
		}
		$sent[] = [$s, $text, $order];
		fwrite(STDOUT, pack('V', strlen($s)) . $s);
	}
	fflush(STDOUT);
	foreach ($sent as [$s, $text, $order]) {
		$got = read(unpack('V', read(4))[1]);
		$named = read(1) === "\1";
		if ($got !== $s) $changed++;
		$plain = unwrap($got, $order);
		$want = secure($text);
		if ($plain === $want) continue;
		$why = 'cannot be read';
		if ($plain !== null && secure($plain) === $want) {
			if ($named) { $left++; $k = implode('-', $order); $lefts[$k] = ($lefts[$k] ?? 0) + 1; if (getenv('SHOW_LEFT')) fwrite(STDERR, "left: $k: " . addcslashes(substr($s, 0, 300), "\0..\37") . "\n"); continue; }
			$missed++; $why = 'missed in silence'; $where[implode(' ', array_intersect($order, $packed))][] = implode(',', $order); if (getenv('SHOW') === 'wrong' && $missed > 3000) { $wrong++; continue; }
		} elseif ($plain !== null) $why = 'reads as ' . addcslashes(substr($plain, 0, 300), "\0..\37");
		if ($wrong++ < (getenv('SHOW') ? 400 : 8)) fwrite(STDERR, implode(', ', $order) . ": $why\n  text   " . addcslashes(substr($text, 0, 300), "\0..\37") . "\n  value  " . addcslashes(substr($s, 0, 600), "\0..\37\177..\377") . "\n  became " . addcslashes(substr($got, 0, 600), "\0..\37\177..\377") . "\n");
	}
}
arsort($lefts); if (getenv('SHOW')) foreach ($where ?? [] as $k => $v) fwrite(STDERR, "MISSED $k: " . count($v) . ' ' . implode(' ', array_slice($v, 0, 12)) . "\n");
fwrite(STDERR, json_encode(['values' => $done, 'changed' => $changed, 'left' => $left, 'missed' => $missed, 'wrong' => $wrong, 'where' => (object) array_slice($lefts, 0, 12)]) . "\n");
