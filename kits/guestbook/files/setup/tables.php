<?php
// Makes the table, and is harmless if it is there.
if (PHP_SAPI !== 'cli') {
    http_response_code(404);
    exit;
}
require __DIR__ . '/../database.php';
database(require __DIR__ . '/../settings.php')->exec('CREATE TABLE IF NOT EXISTS entries (
    id bigint unsigned NOT NULL AUTO_INCREMENT PRIMARY KEY,
    name varchar(60) NOT NULL,
    text varchar(1000) NOT NULL,
    visitor binary(32) NOT NULL,
    at timestamp NOT NULL DEFAULT current_timestamp(),
    KEY visitor_at (visitor, at)
) CHARACTER SET utf8mb4');
