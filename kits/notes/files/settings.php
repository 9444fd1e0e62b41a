<?php
// What these notes were set up with.
return [
    'title' => {{php title}},
    'phrase' => {{php phrase}},
    'session_key' => {{php session_key}},
    'dsn' => {{php database_dsn}},
    'user' => {{php database_user}},
    'password' => {{php database_password}},
];
