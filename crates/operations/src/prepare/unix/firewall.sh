firewall() {
  step "The firewall lets port $PORT in from $FROM, and not from everywhere"
  if has ufw && ufw status | grep -q '^Status: active'; then with_ufw
  elif has firewall-cmd && firewall-cmd --state >/dev/null 2>&1; then with_firewalld
  else with_nftables; fi
}
# What was let in by a script before this one, and is not any more.
no_longer() { changes "$1" | grep -vxF -- "$2" || :; }
with_ufw() {
  rules=$(for from in $FROM; do echo "proto tcp from $from to any port $PORT"; done)
  no_longer ufw "$rules" | while IFS= read -r rule; do
    ufw delete allow $rule
    unchange "ufw $rule"
  done
  printf '%s\n' "$rules" | while IFS= read -r rule; do
    ufw allow $rule comment lantern
    change "ufw $rule"
  done
  # A rule for everybody would leave ours without meaning.
  for verb in allow limit; do
    for wide in OpenSSH SSH ssh ssh/tcp "$PORT" "$PORT/tcp"; do
      if ufw show added | grep -Eqx "ufw $verb $wide( comment .*)?"; then
        ufw delete "$verb" "$wide"
        change "ufw-wide $verb $wide"
      fi
    done
  done
  left=$(ufw show added | grep -E "(^| |:)($PORT|ssh|OpenSSH)(/tcp)?( |\$)" | grep -Ev ' (deny|reject) ' | grep -vF ' comment '"'lantern'" || :)
  if test -n "$left"; then
    say '   Others are let in by rules that were left as they are:'
    printf '%s\n' "$left" | sed 's/^/   /'
  fi
}
with_firewalld() {
  zone=
  device=$(ip -o route get "${FROM%%[ /]*}" 2>/dev/null | sed -n 's/.* dev \([^ ]*\).*/\1/p')
  if test -n "$device"; then zone=$(firewall-cmd --get-zone-of-interface="$device" 2>/dev/null) || zone=; fi
  zone=${zone:-$(firewall-cmd --get-default-zone)}
  rules=$(for from in $FROM; do
    family=ipv4
    case $from in *:*) family=ipv6 ;; esac
    echo "$zone rule family=$family source address=$from port port=$PORT protocol=tcp accept"
  done)
  no_longer firewalld "$rules" | while read -r zone rule; do
    firewall-cmd --quiet --permanent --zone="$zone" --remove-rich-rule="$rule"
    unchange "firewalld $zone $rule"
  done
  printf '%s\n' "$rules" | while read -r zone rule; do
    firewall-cmd --quiet --permanent --zone="$zone" --add-rich-rule="$rule"
    change "firewalld $zone $rule"
  done
  if firewall-cmd --quiet --permanent --zone="$zone" --query-service=ssh; then
    firewall-cmd --quiet --permanent --zone="$zone" --remove-service=ssh
    change "firewalld-wide $zone service=ssh"
  fi
  if firewall-cmd --quiet --permanent --zone="$zone" --query-port="$PORT/tcp"; then
    firewall-cmd --quiet --permanent --zone="$zone" --remove-port="$PORT/tcp"
    change "firewalld-wide $zone port=$PORT/tcp"
  fi
  if test "$(firewall-cmd --permanent --zone="$zone" --get-target 2>/dev/null)" = ACCEPT; then
    say "   The zone $zone lets everything in, whatever its rules say: that was left as it is."
  fi
  firewall-cmd --quiet --reload
}
with_nftables() {
  has nft || install_package nftables
  four= six=
  for from in $FROM; do
    case $from in *:*) six="$six${six:+, }$from" ;; *) four="$four${four:+, }$from" ;; esac
  done
  mkdir -p -m 0755 /etc/lantern
  # A table of its own: what other tables say stays as it is. Connections that are open go on.
  {
    echo '# Who may reach the SSH service. Written by lantern; "machine prepare --undo" takes it away.'
    echo 'table inet lantern_ssh'
    echo 'delete table inet lantern_ssh'
    echo 'table inet lantern_ssh {'
    echo '  chain input {'
    echo '    type filter hook input priority -5; policy accept;'
    echo '    iif lo accept'
    echo '    ct state established,related accept'
    if test -n "$four"; then echo "    ip saddr { $four } tcp dport $PORT accept"; fi
    if test -n "$six"; then echo "    ip6 saddr { $six } tcp dport $PORT accept"; fi
    echo "    tcp dport $PORT drop"
    echo '  }'
    echo '}'
  } > /etc/lantern/ssh.nft
  nft -f /etc/lantern/ssh.nft
  change nftables
  if test -d /run/systemd/system; then
    {
      echo '[Unit]'
      echo 'Description=Who may reach the SSH service (written by lantern)'
      echo 'Wants=network-pre.target'
      echo 'Before=network-pre.target'
      echo 'After=nftables.service'
      echo '[Service]'
      echo 'Type=oneshot'
      echo 'RemainAfterExit=yes'
      echo "ExecStart=$(command -v nft) -f /etc/lantern/ssh.nft"
      echo '[Install]'
      echo 'WantedBy=multi-user.target'
    } > /etc/systemd/system/lantern-ssh-filter.service
    systemctl daemon-reload
    systemctl enable --quiet lantern-ssh-filter.service
  else
    say '   It holds until the machine is started anew: nothing here loads /etc/lantern/ssh.nft then.'
  fi
  others=$(nft list ruleset | awk '
    $1 == "table" { table = $2 " " $3; ours = table == "inet lantern_ssh" }
    $1 == "chain" { chain = $2; input = 0 }
    /hook input/ { input = 1 }
    input && ours == 0 && (/policy drop/ || / drop$/ || / reject/) { print table " " chain }
  ' | sort -u)
  if test -n "$others"; then
    say '   Other rules here drop what comes in, too. They must let it in as well, and their own file has to say so:'
    printf '%s\n' "$others" | while IFS= read -r chain; do
      for from in $FROM; do
        word=ip
        case $from in *:*) word=ip6 ;; esac
        say "   nft insert rule $chain $word saddr $from tcp dport $PORT accept"
      done
    done
  fi
  # Rules of the generation before, which nftables does not see.
  if has iptables && iptables -V 2>/dev/null | grep -qv nf_tables &&
    iptables -S INPUT 2>/dev/null | grep -Eq '^-P INPUT DROP|-j (DROP|REJECT)'; then
    say '   Older rules here drop what comes in, too. They must let it in as well, and whoever loads them has to say so:'
    for from in $FROM; do
      case $from in *:*) tables=ip6tables ;; *) tables=iptables ;; esac
      say "   $tables -I INPUT -p tcp -s $from --dport $PORT -j ACCEPT"
    done
  fi
}
