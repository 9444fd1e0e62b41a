<?php
// Refuses a pass phrase that is guessed soon.
if (PHP_SAPI !== 'cli') {
    http_response_code(404);
    exit;
}
$settings = require __DIR__ . '/../settings.php';
if (!preg_match('/^.{12}/us', $settings['phrase'])) {
    echo "The pass phrase has fewer than twelve characters.\n";
    exit(1);
}
