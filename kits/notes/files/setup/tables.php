<?php
// Makes the table, and is harmless if it is there.
if (PHP_SAPI !== 'cli') {
    http_response_code(404);
    exit;
}
require __DIR__ . '/../database.php';
database(require __DIR__ . '/../settings.php')->exec("
    CREATE TABLE IF NOT EXISTS notes (
        id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
        title text NOT NULL CHECK (length(title) BETWEEN 1 AND 120),
        body text NOT NULL CHECK (length(body) <= 20000),
        at timestamptz NOT NULL DEFAULT now()
    );
    CREATE INDEX IF NOT EXISTS notes_words ON notes USING gin (to_tsvector('simple', title || ' ' || body));
");
