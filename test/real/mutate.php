<?php
// Writes serialized values of which some bytes were changed at random, plain and inside of
// other text; reads back what became of each. What PHP can read it must be able to read
// afterwards; what it cannot read must not be touched, at any depth.
// Usage: php mutate.php SEED COUNT BATCH CLASS. Ends with a line of JSON on standard error.
[$self, $seed, $count, $batch, $class] = $argv;
mt_srand((int) $seed);
function pick(array $a) { return $a[mt_rand(0, count($a) - 1)]; }
class Lamp { public $u; protected $p = 'tern'; }
function text(): string { return pick(['', 'lamp ', "caf\u{e9} ", '";', "it's "]) . pick(['http://ternrock.example', 'http://www.ternrock.example/a', 'http:\/\/ternrock.example\/', 'lamp']) . pick(['', ' tide', '"', '/x']); }
function value(int $d) {
	switch ($d <= 0 ? 0 : mt_rand(0, 6)) {
		case 1: return ['k' => value($d - 1), 'http://ternrock.example/' . mt_rand() => 1, 'n' => [value($d - 1)]];
		case 2: $l = new Lamp; $l->u = value($d - 1); return $l;
		case 3: return serialize(value($d - 1));
		case 4: return [mt_rand(), 1.5, true, null, text()];
		case 5: return json_encode(['u' => 'http://ternrock.example/', 's' => serialize(['http://ternrock.example'])]);
		default: return text();
	}
}
function mutate(string $s): string {
	for ($i = pick([1, 1, 1, 2]); $i > 0 && $s !== ''; $i--) {
		$p = mt_rand(0, strlen($s) - 1);
		switch (mt_rand(0, 3)) {
			case 0: $s[$p] = pick(['0', '1', '9', ':', ';', '"', '{', '}', 'a', 's', 'x', "\0", chr(mt_rand(0, 255))]); break;
			case 1: $s = substr($s, 0, $p) . substr($s, $p + 1); break;
			case 2: $s = substr($s, 0, $p) . pick(['0', '7', '"', ';', '}', 'x', ' ']) . substr($s, $p); break;
			default: $s = mt_rand(0, 3) ? substr($s, 0, $p) . chr(ord($s[$p]) ^ (1 << mt_rand(0, 7))) . substr($s, $p + 1) : substr($s, 0, max(8, $p));
		}
	}
	return $s;
}
$wraps = [
	'plain' => [fn($s) => $s, fn($s) => $s],
	'blank' => [fn($s) => " \n$s", fn($s) => substr($s, 2)],
	'bom' => [fn($s) => "\u{feff}$s", fn($s) => substr($s, 3)],
	'session' => [fn($s) => "cart|$s", fn($s) => substr($s, 5)],
	'attribute' => [fn($s) => '<input value="' . htmlspecialchars($s, ENT_QUOTES | ENT_SUBSTITUTE) . '">', fn($s) => htmlspecialchars_decode(substr($s, 14, -2), ENT_QUOTES)],
	'slashed' => [fn($s) => addslashes($s), fn($s) => stripslashes($s)],
	'percent' => [fn($s) => 'd=' . rawurlencode($s), fn($s) => rawurldecode(substr($s, 2))],
	'json' => [fn($s) => json_encode(['e' => $s]) ?: '', fn($s) => json_decode($s, true)['e'] ?? null],
	'base64' => [fn($s) => base64_encode($s), fn($s) => base64_decode($s)],
	'nested' => [fn($s) => serialize(['x' => $s]), fn($s) => unserialize($s)['x'] ?? null],
];
if ($class === 'list') { echo implode("\n", array_keys($wraps)), "\n"; exit; }
// sound reports whether what became of a value is as sound as the value was, at every depth.
function sound($was, $is, int $depth = 0): bool {
	if ($depth > 20) return true; // it holds itself
	if (is_string($was)) {
		if (!is_string($is)) return false;
		if (!preg_match('/^[aOsC]:\d+:[{"]/', $was)) return true;
		$v = @unserialize($was);
		if ($v === false) return $was === $is;
		$w = @unserialize($is);
		return $w !== false && sound($v, $w, $depth + 1);
	}
	if (is_array($was)) {
		if (!is_array($is) || count($is) !== count($was)) return false;
		foreach (array_map(null, array_values($was), array_values($is)) as [$a, $b]) if (!sound($a, $b, $depth + 1)) return false;
		return true;
	}
	return !is_object($was) || is_object($is) && get_class($was) === get_class($is) && sound(array_values((array) $was), array_values((array) $is), $depth + 1);
}
function read($n) { $s = ''; while (strlen($s) < $n) { $got = fread(STDIN, $n - strlen($s)); if ($got === false || $got === '') { fwrite(STDERR, "cut off\n"); exit(1); } $s .= $got; } return $s; }
$wrong = $changed = $broken = 0;
for ($done = 0; $done < $count; $done += count($sent)) {
	$sent = [];
	while (count($sent) < min($batch, $count - $done)) {
		$s = mutate(serialize(value(3)));
		$w = $wraps[$class][0]($s);
		if ($w === '' || $wraps[$class][1]($w) !== $s) continue;
		$sent[] = [$w, $s];
		fwrite(STDOUT, pack('V', strlen($w)) . $w);
	}
	fflush(STDOUT);
	foreach ($sent as [$w, $s]) {
		$got = read(unpack('V', read(4))[1]);
		read(1);
		if ($got !== $w) $changed++;
		$is = $wraps[$class][1]($got);
		$v = @unserialize($s);
		if ($v === false && $s !== 'b:0;') {
			$broken++;
			if ($got === $w) continue;
			// Sound, but for one byte before it: then it is a text that holds a sound value.
			foreach ([ltrim($s), substr($s, 1)] as $i => $tail) {
				$v = @unserialize($tail);
				if ($v !== false && is_string($is) && sound($v, @unserialize($i ? substr($is, 1) : ltrim($is)))) continue 2;
			}
			$why = 'cannot be read, and was touched';
		} else {
			$after = is_string($is) ? @unserialize($is) : false;
			if ($is === $s || $after !== false && sound($v, $after)) continue;
			$why = 'could be read';
		}
		if ($wrong++ < 8) fwrite(STDERR, "$class: $why\n  value  " . addcslashes(substr($w, 0, 500), "\0..\37\177..\377") . "\n  became " . addcslashes(substr($got, 0, 500), "\0..\37\177..\377") . "\n");
	}
}
fwrite(STDERR, json_encode(['values' => $done, 'changed' => $changed, 'left' => $broken, 'missed' => 0, 'wrong' => $wrong]) . "\n");
