#!/bin/sh
# What an administrator's shell script does to open one account: the same
# system work with the same commands, on the same server.
#   script.sh NAME DOMAIN UID ADDRESS
set -eu
name=$1 domain=$2 uid=$3 address=$4
home=/home/$name root=/home/$name/sites/$domain

groupadd --gid "$uid" "$name"
useradd --uid "$uid" --gid "$uid" --no-create-home --no-log-init --home-dir "$home" --shell /usr/sbin/nologin "$name"
btrfs subvolume create "$home" >/dev/null
btrfs qgroup limit 100M "$home"
chown "root:$name" "$home"
chmod 0755 "$home"
install -d -o "$name" -g "$name" "$home/sites" "$home/tmp" "$root"
printf '<!doctype html><title>%s</title><h1>%s</h1>\n' "$domain" "$domain" > "$root/index.html"
chown "$name:$name" "$root/index.html"

cat > "/etc/php/8.2/fpm/pool.d/script-$name.conf" <<POOL
[$name]
user = $name
group = $name
listen = /run/php/script-$name.sock
listen.owner = www-data
listen.group = www-data
pm = ondemand
pm.max_children = 3
ping.path = /ping
php_admin_value[open_basedir] = $home/
php_admin_value[upload_tmp_dir] = $home/tmp
POOL
cat > "/etc/nginx/conf.d/script-$name.conf" <<SITE
server {
    listen 80;
    server_name $domain www.$domain;
    root $root;
    index index.php index.html;
    location / { try_files \$uri \$uri/ =404; }
    location ~ \.php\$ {
        try_files \$uri =404;
        fastcgi_pass unix:/run/php/script-$name.sock;
        include fastcgi_params;
        fastcgi_param SCRIPT_FILENAME \$document_root\$fastcgi_script_name;
    }
    location = /ping {
        fastcgi_pass unix:/run/php/script-$name.sock;
        include fastcgi_params;
        fastcgi_param SCRIPT_FILENAME /ping;
    }
}
SITE
php-fpm8.2 -t 2>/dev/null
nginx -t -q
kill -USR2 "$(cat /run/php/php8.2-fpm.pid)"
nginx -s reload

# Done when the site and its PHP answer.
until curl -fs -H "Host: $domain" "http://$address/" | grep -q "$domain"; do sleep 0.01; done
until [ "$(curl -s -H "Host: $domain" "http://$address/ping")" = pong ]; do sleep 0.01; done
