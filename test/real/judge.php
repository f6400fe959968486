<?php
// Writes random nested values, serialized, in batches; reads back what became of
// each, and holds it against the value that PHP itself gets by walking the decoded
// value and replacing references in its strings.
// Usage: php judge.php SEED COUNT BATCH. Ends with a line of JSON on standard error.
[$self, $seed, $count, $batch] = $argv;
mt_srand((int) $seed);
ini_set('serialize_precision', '-1');

class Lamp { public $u; protected $p; private $q; public ?Lamp $next = null;
	function set($u, $p, $q) { $this->u = $u; $this->p = $p; $this->q = $q; return $this; }
	function walk() { foreach (['u', 'p', 'q'] as $k) walk($this->$k); if ($this->next) $this->next->walk(); } }
class Keeper extends Lamp { private $q = 'own'; public $list = [];
	function walk() { parent::walk(); walk($this->q); walk($this->list); } }
enum Flag: string { case Up = 'http://ternrock.example/up'; case Down = 'down'; }

const OURS = ['ternrock.example', 'www.ternrock.example', 'TernRock.example', 'ternrock.example.', 'keeper@ternrock.example'];
const THEIRS = ['ternrock.example.org', 'nternrock.example', 'x.ternrock.example', 'ternrock.example-shop.example', 'other.example', 'ternrock.example:8080', 'ternrock.example@other.example'];
const SEPS = ['://', ':\/\/', ':\\\\\/\\\\\/', '%3A%2F%2F', '%3a%2f%2f', '%253A%252F%252F', '&#58;&#47;&#47;', '&colon;&sol;&sol;', '\u003a\u002f\u002f', '\3a\2f\2f ', ':\/&#x2F;'];
function pick(array $a) { return $a[mt_rand(0, count($a) - 1)]; }

// A reference, and whether it is to become secure.
function reference(): string {
	$scheme = pick(['http', 'http', 'http', 'HTTP', 'Http', 'ws']);
	$host = mt_rand(0, 2) ? pick(OURS) : pick(THEIRS);
	$port = mt_rand(0, 5) || strpos($host, ':') ? '' : ':80';
	return $scheme . pick(SEPS) . $host . $port . pick(['', '/', '/a/b.png', '?x=1', ' ', '/p?q=%20&r=2', '"', '#top', '<', ')', "\n"]);
}
function text(): string {
	$s = '';
	for ($i = mt_rand(0, 4); $i >= 0; $i--) $s .= pick(['', 'lamp ', "caf\u{e9} ", "\u{65e5}\u{672c} ", "\xff\xfe ", "\0x ", '<a href="', "';", '";', '"}', 'i:1;', '{}', "\r\n", 'https://ternrock.example/ ', 'a: ']) . (mt_rand(0, 2) ? reference() . pick([' ', '"', "\t", ', ']) : '');
	return $s;
}
function value(int $depth) {
	if ($depth <= 0) return text();
	switch (mt_rand(0, 18)) {
		case 18: return base64_encode(pick([fn() => text(), fn() => serialize(value($depth - 1)), fn() => json_encode(jsonable(1))])());
		case 0: return null;
		case 1: return (bool) mt_rand(0, 1);
		case 2: return pick([0, -1, PHP_INT_MAX, PHP_INT_MIN, mt_rand()]);
		case 3: return pick([0.1, -1.5e300, INF, -INF, 1.0, 1e-10]);
		case 4: case 5: case 6: return text();
		case 7: return json_encode(jsonable($depth - 1), pick([0, JSON_UNESCAPED_SLASHES, JSON_UNESCAPED_UNICODE]));
		case 8: return serialize(value($depth - 1));
		case 9: $o = new stdClass; $o->{'k' . mt_rand()} = value($depth - 1); $o->url = text(); return $o;
		case 10: return (new Lamp)->set(text(), value($depth - 1), value($depth - 1));
		case 11: $k = (new Keeper)->set(text(), text(), text()); $k->list = [value($depth - 1)]; $k->next = (new Lamp)->set(1, text(), null); return $k;
		case 12: return pick([Flag::Up, Flag::Down]);
		case 13: $x = text(); $a = ['one' => &$x, 'two' => &$x]; return $a;
		case 14: $o = new stdClass; $o->t = text(); return [$o, $o];
		default:
			$a = [];
			for ($i = mt_rand(0, 4); $i > 0; $i--) $a[pick([mt_rand(-5, 99), 'key' . mt_rand(), "\0n", 'http://ternrock.example/k' . mt_rand(), ''])] = value($depth - 1);
			return $a;
	}
}
function jsonable(int $depth) {
	$t = fn() => mb_convert_encoding(text(), 'UTF-8', 'UTF-8');
	if ($depth <= 0) return $t();
	$a = [];
	for ($i = mt_rand(1, 3); $i > 0; $i--) $a[pick(['url', 'k' . mt_rand(), 'image'])] = pick([fn() => $t(), fn() => jsonable($depth - 1), fn() => [1, $t()], fn() => serialize(['u' => $t()])])();
	return $a;
}

// What PHP makes of a string: its own regular expressions, its own decoders.
function secure(string $s): string {
	$colon = '(?::|%(?:25)*3[aA]|&\#58;|&colon;|\\\\u003a|\\\\3a)'; $slash = '(?:\\\\*\/|%(?:25)*2[fF]|&\#47;|&\#x2F;|&sol;|\\\\u002f|\\\\2f ?)';
	return preg_replace_callback("~(?<![A-Za-z0-9])(http|ws)($colon$slash$slash)((?:keeper@)?(?:www\\.)?ternrock\\.example\\.?)(:80)?(?![A-Za-z0-9.@:_-])~i",
		fn($m) => $m[1] . (ctype_upper(substr($m[1], -1)) ? 'S' : 's') . $m[2] . $m[3], $s);
}
function walked($v) { walk($v); return $v; }
function walk(&$v): void { // in place, so that references stay references
	if (is_string($v)) {
		if (preg_match('/^[aOsE]:\d+:[{"]/', $v)) {
			$v = serialize(walked(unserialize($v)));
			return;
		}
		if ($v !== '' && strpos('{["', $v[0]) !== false) {
			$j = json_decode($v);
			foreach ([0, JSON_UNESCAPED_SLASHES, JSON_UNESCAPED_UNICODE] as $flags) {
				if (json_last_error() === JSON_ERROR_NONE && json_encode($j, $flags) === $v) {
					$v = json_encode(walked($j), $flags);
					return;
				}
			}
		}
		$plain = strlen($v) >= 16 ? base64_decode($v, true) : false;
		$v = $plain !== false && base64_encode($plain) === $v ? base64_encode(walked($plain)) : secure($v);
	} elseif (is_array($v)) {
		$out = [];
		foreach (array_keys($v) as $k) {
			walk($v[$k]);
			$key = is_string($k) ? secure($k) : $k;
			$out[$key] = &$v[$k];
		}
		$v = $out;
	} elseif ($v instanceof Lamp) {
		$v->walk();
	} elseif ($v instanceof stdClass) {
		foreach (array_keys(get_object_vars($v)) as $k) walk($v->$k);
	}
}
function read($n) { $s = ''; while (strlen($s) < $n) { $got = fread(STDIN, $n - strlen($s)); if ($got === false || $got === '') { fwrite(STDERR, "cut off\n"); exit(1); } $s .= $got; } return $s; }

$wrong = $changed = $left = 0;
for ($done = 0; $done < $count; $done += count($sent)) {
	$sent = [];
	for ($i = 0; $i < min($batch, $count - $done); $i++) {
		$s = serialize(value(4));
		$sent[] = $s;
		fwrite(STDOUT, pack('V', strlen($s)) . $s);
	}
	fflush(STDOUT);
	foreach ($sent as $s) {
		$got = read(unpack('V', read(4))[1]);
		$named = read(1) === "\1";
		if ($got !== $s) $changed++;
		$value = unserialize($got);
		$want = walked(unserialize($s));
		if ($value === false && $got !== 'b:0;' || serialize($value) !== serialize($want)) {
			// What was left and named may stay; what became of the rest is what PHP makes of it.
			if ($named && $value !== false && serialize(walked($value)) === serialize($want)) { $left++; continue; }
			$w = serialize($want);
			for ($at = 0; isset($w[$at], $got[$at]) && $w[$at] === $got[$at]; $at++);
			$show = fn($x) => addcslashes(substr($x, max(0, $at - 60), 200), "\0..\37");
			if ($wrong++ < 5) fwrite(STDERR, "value, around byte $at: " . $show($s) . "\nbecame                 " . $show($got) . "\nexpected               " . $show($w) . "\n");
		}
	}
}
fwrite(STDERR, json_encode(['values' => $done, 'changed' => $changed, 'left' => $left, 'wrong' => $wrong]) . "\n");
