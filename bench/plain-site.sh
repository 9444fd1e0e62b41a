#!/bin/sh
# What somebody sets up by hand for certificates of one site.
set -eu
mkdir -p /srv/plain/.well-known/acme-challenge
cd /srv/plain
openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -subj /CN=plain.example -days 9 -keyout key.pem -out chain.pem 2>/dev/null
cat > /etc/nginx/conf.d/plain.conf <<SITE
server {
    listen 80;
    listen [::]:80;
    listen 443 ssl;
    listen [::]:443 ssl;
    server_name plain.example;
    ssl_certificate /srv/plain/chain.pem;
    ssl_certificate_key /srv/plain/key.pem;
    root /srv/plain;
}
SITE
nginx -t -q
nginx -s reload
