<?php
// A connection with the database. From another server, it is always encrypted.
function database(array $settings): PDO
{
    $options = [PDO::ATTR_ERRMODE => PDO::ERRMODE_EXCEPTION, PDO::ATTR_EMULATE_PREPARES => false,
        PDO::ATTR_DEFAULT_FETCH_MODE => PDO::FETCH_ASSOC];
    if ($settings['socket'] === '') {
        $options += [PDO::MYSQL_ATTR_SSL_CA => '', PDO::MYSQL_ATTR_SSL_VERIFY_SERVER_CERT => false];
    }
    return new PDO($settings['dsn'], $settings['user'], $settings['password'], $options);
}
