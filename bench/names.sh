# Sets up a name server by hand, beside the product's: primary or secondary of hand.example.
role=$1 other=$2 port=$3
dir=/var/lib/by-hand
mkdir -p $dir /run/by-hand && chown knot:knot $dir /run/by-hand
cat > $dir/knot.conf <<X
server:
    user: knot:knot
    rundir: /run/by-hand
    listen: 0.0.0.0@$port
database:
    storage: $dir
remote:
  - id: other
    address: $other@$port
acl:
  - id: update
    address: 127.0.0.1
    action: update
  - id: other
    address: $other
    action: [transfer, notify]
template:
  - id: default
    storage: $dir
    zonefile-sync: -1
    zonefile-load: $([ $role = primary ] && echo difference-no-serial || echo none)
    journal-content: all
    acl: [update, other]
zone:
  - domain: hand.example
    $([ $role = primary ] && echo notify || echo master): other
X
printf '$TTL 3600\n@ SOA ns1 hostmaster 1 3600 600 1209600 300\n@ NS ns1\nns1 A 192.0.2.1\n' > $dir/hand.example.zone
chown knot:knot $dir/*
knotd -c $dir/knot.conf -s /run/by-hand/knot.sock -d
