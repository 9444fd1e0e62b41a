<?php
// A connection with the database.
function database(array $settings): PDO
{
    return new PDO($settings['dsn'], $settings['user'], $settings['password'],
        [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION, PDO::ATTR_DEFAULT_FETCH_MODE => PDO::FETCH_ASSOC]);
}
