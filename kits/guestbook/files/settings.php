<?php
// What this guestbook was set up with.
return [
    'title' => {{php title}},
    'welcome' => {{php welcome}},
    'keeper' => {{php keeper}},
    'form_key' => {{php form_key}},
    'dsn' => {{php database_dsn}},
    'socket' => {{php database_socket}},
    'user' => {{php database_user}},
    'password' => {{php database_password}},
];
