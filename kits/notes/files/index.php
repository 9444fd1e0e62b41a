<?php
// Notes: everybody reads them, and who has the pass phrase writes.
declare(strict_types=1);
$settings = require __DIR__ . '/settings.php';
require __DIR__ . '/database.php';

const PER_PAGE = 20;
const COOKIE = 'writer';
const HOURS = 12;

header("Content-Security-Policy: default-src 'none'; style-src 'self'; form-action 'self'; base-uri 'none'; " .
    "frame-ancestors 'none'");
header('X-Content-Type-Options: nosniff');
header('Referrer-Policy: same-origin');

function e(string $text): string
{
    return htmlspecialchars($text, ENT_QUOTES | ENT_SUBSTITUTE, 'UTF-8');
}

function field(array $from, string $name, int $longest): string
{
    $text = is_string($from[$name] ?? null) ? trim($from[$name]) : '';
    $text = preg_replace('/[\x00-\x08\x0b-\x1f\x7f]/u', '', str_replace("\r\n", "\n", $text)); // null: no UTF-8
    return preg_match('/^.{0,' . $longest . '}/us', (string) $text, $found) ? $found[0] : '';
}

// A signed moment: nobody else can make one, and it counts for some hours.
function seal(string $key, string $what, int $time): string
{
    return $time . '-' . hash_hmac('sha256', $what . ' ' . $time, $key);
}

function holds(string $key, string $what, string $given): bool
{
    $time = (int) $given;
    return hash_equals(seal($key, $what, $time), $given) && $time > time() - HOURS * 3600;
}

// A new pass phrase signs everybody out.
$key = $settings['session_key'] . $settings['phrase'];
$cookie = is_string($_COOKIE[COOKIE] ?? null) ? $_COOKIE[COOKIE] : '';
$writes = holds($key, 'writer', $cookie);
$problem = '';
$db = database($settings);

if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    $do = field($_POST, 'do', 20);
    $form = field($_POST, 'form', 200);
    if ($do === 'sign in') {
        if (hash_equals($settings['phrase'], field($_POST, 'phrase', 200))) {
            setcookie(COOKIE, seal($key, 'writer', time()), ['expires' => time() + HOURS * 3600, 'path' => '/',
                'secure' => true, 'httponly' => true, 'samesite' => 'Strict']);
        } else {
            sleep(1);
            $problem = 'That is not the pass phrase.';
        }
    } elseif (!$writes || !holds($key, 'form ' . $cookie, $form)) {
        $problem = 'Please sign in first.';
    } elseif ($do === 'sign out') {
        setcookie(COOKIE, '', ['expires' => 1, 'path' => '/', 'secure' => true, 'httponly' => true, 'samesite' => 'Strict']);
    } elseif ($do === 'remove') {
        $db->prepare('DELETE FROM notes WHERE id = ?')->execute([(int) field($_POST, 'id', 20)]);
    } else {
        $title = field($_POST, 'title', 120);
        $body = field($_POST, 'body', 20000);
        if ($title === '') {
            $problem = 'A note needs a title.';
        } else {
            $db->prepare('INSERT INTO notes (title, body) VALUES (?, ?)')->execute([$title, $body]);
        }
    }
    if ($problem === '') {
        header('Location: ./', true, 303);
        exit;
    }
    http_response_code(422);
}

$search = field($_GET, 'search', 100);
$page = max(0, min(100000, (int) field($_GET, 'page', 6)));
$list = $db->prepare("SELECT id, title, body, to_char(at, 'YYYY-MM-DD HH24:MI') AS at FROM notes
    WHERE :search = '' OR to_tsvector('simple', title || ' ' || body) @@ plainto_tsquery('simple', :words)
    ORDER BY id DESC LIMIT " . (PER_PAGE + 1) . ' OFFSET ' . $page * PER_PAGE);
$list->execute(['search' => $search, 'words' => $search]);
$notes = $list->fetchAll();
$more = count($notes) > PER_PAGE;
$form = $writes ? seal($key, 'form ' . $cookie, time()) : '';
$next = '?' . http_build_query(['search' => $search, 'page' => $page + 1]);
$previous = '?' . http_build_query(['search' => $search, 'page' => $page - 1]);
?>
<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title><?= e($settings['title']) ?></title>
<link rel="stylesheet" href="style.css">
<body>
<header>
<h1><a href="./"><?= e($settings['title']) ?></a></h1>
<form method="get" action="./"><label>Search <input name="search" value="<?= e($search) ?>"></label></form>
</header>
<?php if ($problem !== ''): ?>
<p class="problem" role="alert"><?= e($problem) ?></p>
<?php endif ?>
<?php if ($writes): ?>
<form method="post" action="./" class="write">
<input type="hidden" name="form" value="<?= e($form) ?>">
<p><label>Title <input name="title" maxlength="120" required></label></p>
<p><label>Note <textarea name="body" maxlength="20000" rows="5"></textarea></label></p>
<p><button>Keep</button> <button name="do" value="sign out" formnovalidate>Sign out</button></p>
</form>
<?php endif ?>
<?php foreach (array_slice($notes, 0, PER_PAGE) as $note): ?>
<article>
<h2><?= e($note['title']) ?></h2>
<p><?= nl2br(e($note['body'])) ?></p>
<footer><time><?= e($note['at']) ?></time>
<?php if ($writes): ?>
<form method="post" action="./"><input type="hidden" name="form" value="<?= e($form) ?>">
<input type="hidden" name="id" value="<?= e((string) $note['id']) ?>"><button name="do" value="remove">Remove</button></form>
<?php endif ?>
</footer>
</article>
<?php endforeach ?>
<?php if ($notes === []): ?>
<p><?= $search === '' ? 'There are no notes yet.' : 'No note has these words.' ?></p>
<?php endif ?>
<nav>
<?php if ($page > 0): ?><a href="<?= e($previous) ?>">Newer</a><?php endif ?>
<?php if ($more): ?><a href="<?= e($next) ?>">Older</a><?php endif ?>
</nav>
<?php if (!$writes): ?>
<form method="post" action="./" class="sign">
<label>Pass phrase <input type="password" name="phrase" required></label> <button name="do" value="sign in">Sign in to write</button>
</form>
<?php endif ?>
</body>
</html>
