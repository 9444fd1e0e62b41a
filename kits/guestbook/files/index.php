<?php
// A guestbook: one page with the entries and a form.
declare(strict_types=1);
$settings = require __DIR__ . '/settings.php';
require __DIR__ . '/database.php';

const PER_PAGE = 20;
const PER_HOUR = 5; // entries of one visitor

header("Content-Security-Policy: default-src 'none'; style-src 'self'; form-action 'self'; base-uri 'none'; " .
    "frame-ancestors 'none'");
header('X-Content-Type-Options: nosniff');
header('Referrer-Policy: same-origin');

function e(string $text): string
{
    return htmlspecialchars($text, ENT_QUOTES | ENT_SUBSTITUTE, 'UTF-8');
}

// A form counts for two hours, and for whoever was shown it: the visitor is known by address alone.
function seal(string $key, string $visitor, int $time): string
{
    return $time . '-' . hash_hmac('sha256', $visitor . ' ' . $time, $key);
}

function line(string $name, int $longest): string
{
    $text = is_string($_POST[$name] ?? null) ? trim($_POST[$name]) : '';
    $text = preg_replace('/[\x00-\x09\x0b-\x1f\x7f]/u', '', str_replace("\r\n", "\n", $text)); // null: no UTF-8
    return preg_match('/^.{0,' . $longest . '}/us', (string) $text, $found) ? $found[0] : '';
}

$visitor = hash_hmac('sha256', $_SERVER['REMOTE_ADDR'] ?? '', $settings['form_key'], true);
$problem = '';
$db = database($settings);

if ($_SERVER['REQUEST_METHOD'] === 'POST') {
    $given = is_string($_POST['form'] ?? null) ? $_POST['form'] : '';
    $time = (int) $given;
    $fresh = hash_equals(seal($settings['form_key'], $visitor, $time), $given) && $time > time() - 7200;
    $remove = is_string($_POST['remove'] ?? null) ? (int) $_POST['remove'] : 0;
    $name = line('name', 60);
    $text = line('text', 1000);
    if (!$fresh) {
        $problem = 'This page was open for too long. Please try once more.';
    } elseif ($remove > 0) {
        $phrase = is_string($_POST['keeper'] ?? null) ? $_POST['keeper'] : '';
        if ($settings['keeper'] === '' || !hash_equals($settings['keeper'], $phrase)) {
            sleep(1);
            $problem = 'That is not the pass phrase.';
        } else {
            $db->prepare('DELETE FROM entries WHERE id = ?')->execute([$remove]);
        }
    } elseif (($_POST['address'] ?? '') !== '') { // a field that people do not see
        $problem = '';
    } elseif ($name === '' || $text === '') {
        $problem = 'Please give a name and some words.';
    } else {
        $count = $db->prepare('SELECT count(*) FROM entries WHERE visitor = ? AND at > now() - INTERVAL 1 HOUR');
        $count->execute([$visitor]);
        if ($count->fetchColumn() >= PER_HOUR) {
            $problem = 'That is enough for an hour. Please come back later.';
        } else {
            $db->prepare('INSERT INTO entries (name, text, visitor) VALUES (?, ?, ?)')->execute([$name, $text, $visitor]);
        }
    }
    if ($problem === '') {
        header('Location: ./', true, 303);
        exit;
    }
    http_response_code(422);
}

$page = max(0, min(100000, (int) ($_GET['page'] ?? 0)));
$keeping = isset($_GET['keep']) && $settings['keeper'] !== '';
$list = $db->prepare('SELECT id, name, text, at FROM entries ORDER BY id DESC LIMIT ? OFFSET ?');
$list->bindValue(1, PER_PAGE + 1, PDO::PARAM_INT);
$list->bindValue(2, $page * PER_PAGE, PDO::PARAM_INT);
$list->execute();
$entries = $list->fetchAll();
$more = count($entries) > PER_PAGE;
$form = seal($settings['form_key'], $visitor, time());
?>
<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title><?= e($settings['title']) ?></title>
<link rel="stylesheet" href="style.css">
<body>
<h1><?= e($settings['title']) ?></h1>
<p><?= e($settings['welcome']) ?></p>
<?php if ($problem !== ''): ?>
<p class="problem" role="alert"><?= e($problem) ?></p>
<?php endif ?>
<form method="post" action="./">
<input type="hidden" name="form" value="<?= e($form) ?>">
<p class="hide"><label>Leave this empty <input name="address" tabindex="-1" autocomplete="off"></label></p>
<p><label>Name <input name="name" maxlength="60" required value="<?= e(line('name', 60)) ?>"></label></p>
<p><label>Your words <textarea name="text" maxlength="1000" rows="4" required><?= e(line('text', 1000)) ?></textarea></label></p>
<p><button>Write</button></p>
</form>
<?php foreach (array_slice($entries, 0, PER_PAGE) as $entry): ?>
<article>
<p><?= nl2br(e($entry['text'])) ?></p>
<footer><?= e($entry['name']) ?>, <time><?= e($entry['at']) ?></time></footer>
<?php if ($keeping): ?>
<form method="post" action="./" class="keep">
<input type="hidden" name="form" value="<?= e($form) ?>">
<input type="hidden" name="remove" value="<?= e((string) $entry['id']) ?>">
<label>Pass phrase <input type="password" name="keeper" required></label> <button>Take away</button>
</form>
<?php endif ?>
</article>
<?php endforeach ?>
<?php if ($entries === []): ?>
<p>Nobody has written anything yet.</p>
<?php endif ?>
<nav>
<?php if ($page > 0): ?><a href="?page=<?= $page - 1 ?>">Newer</a><?php endif ?>
<?php if ($more): ?><a href="?page=<?= $page + 1 ?>">Older</a><?php endif ?>
</nav>
</body>
</html>
