<?php
// Refuses a pass phrase that is guessed soon.
if (PHP_SAPI !== 'cli') {
    http_response_code(404);
    exit;
}
$settings = require __DIR__ . '/../settings.php';
if (mb_strlen($settings['phrase']) < 12) {
    echo "The pass phrase has fewer than twelve characters.\n";
    exit(1);
}
