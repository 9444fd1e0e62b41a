# What somebody does by hand on a server with MariaDB and PHP.
#
#   sh databases.sh database NAME PASSWORD          a database, a user, and its first statement
#   sh databases.sh postgresql NAME PASSWORD        the same with PostgreSQL
#   sh databases.sh kit ARCHIVE NAME PASSWORD       unpack, fill in, a database, its tables, a look at the page
set -e
add() {
    mariadb -e "CREATE DATABASE $1 CHARACTER SET utf8mb4; CREATE USER $1@localhost IDENTIFIED BY '$2';
        GRANT ALL PRIVILEGES ON $1.* TO $1@localhost"
}
case $1 in
database)
    add "$2" "$3"
    mariadb --user="$2" --password="$3" "$2" -e "SELECT 1" >/dev/null
    ;;
postgresql)
    su postgres -s /bin/sh -c "psql -q -c \"CREATE ROLE $2 LOGIN PASSWORD '$3'\" -c 'CREATE DATABASE $2 OWNER $2' \
        -c 'REVOKE CONNECT ON DATABASE $2 FROM PUBLIC'"
    printf 'local %s %s scram-sha-256\n' "$2" "$2" >/tmp/line
    file=$(su postgres -s /bin/sh -c "psql -tAc 'SHOW hba_file'")
    cat "$file" >>/tmp/line && cat /tmp/line >"$file"
    su postgres -s /bin/sh -c "psql -q -c 'SELECT pg_reload_conf()'" >/dev/null
    PGPASSWORD=$3 psql -q -h /run/postgresql -U "$2" "$2" -c "SELECT 1" >/dev/null
    ;;
kit)
    site=/home/$3/sites/$3.example
    rm -rf "$site"/*
    tar -xzf "$2" -C "$site" --strip-components=1 files
    add "$3" "$4"
    sed -i -e "s/{{php title}}/'Book'/; s/{{php welcome}}/''/; s/{{php keeper}}/''/; s/{{php form_key}}/'$4$4'/" \
        -e "s/{{php database_dsn}}/'mysql:host=localhost;dbname=$3;charset=utf8mb4'/" \
        -e "s|{{php database_socket}}|'/run/mysqld/mysqld.sock'|" \
        -e "s/{{php database_user}}/'$3'/; s/{{php database_password}}/'$4'/" "$site/settings.php"
    chown -R "$3": "$site"
    setpriv --reuid="$3" --regid="$3" --clear-groups php "$site/setup/tables.php"
    curl -s -m 10 -H "Host: $3.example" "http://$5/" | grep -q "<form"
    ;;
esac
