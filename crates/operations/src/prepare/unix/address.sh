waiting() { if test -e "$STATE/address-kept" || test -e "$STATE/address-failed"; then return 1; fi; }
# What would have to be set by hand is told before anything is changed.
can_be_fixed() {
  case $way in
    netplan)
      for other in /sys/class/net/*; do
        other=${other##*/}
        case $other in "$device"|lo) continue ;; esac
        if grep -q "\b$other\b" /etc/netplan/*.yaml; then stop "netplan speaks of $other as well: that is set by hand"; fi
      done ;;
    ifupdown)
      if grep -Eqs "^[[:space:]]*iface[[:space:]]+$device[[:space:]]+inet[[:space:]]" /etc/network/interfaces.d/*; then
        stop "a file of /etc/network/interfaces.d speaks of $device: that is set by hand"
      fi ;;
  esac
}
address_of_device() {
  device=$(ip -o -4 route show default | sed -n 's/.* dev \([^ ]*\).*/\1/p' | head -n 1)
  device=${device:-$(ip -o route get "${FROM%%[ /]*}" 2>/dev/null | sed -n 's/.* dev \([^ ]*\).*/\1/p')}
  test -n "$device" || stop 'no network interface has a way out of here'
}
fixed_address() {
  step "The address $ADDRESS is fixed"
  address_of_device
  router=${ROUTER:-$(ip -o -4 route show default | sed -n 's/.* via \([^ ]*\).*/\1/p' | head -n 1)}
  resolvers=${RESOLVERS:-$(sed -n 's/^nameserver //p' /etc/resolv.conf 2>/dev/null | grep -v '^127\.' | tr '\n' ' ')}
  if test -n "$(changes address)"; then
    say '   It was fixed by this before; --undo first, for another one.'
    return
  fi
  if has netplan && ls /etc/netplan/*.yaml >/dev/null 2>&1; then way=netplan
  elif has nmcli && test "$(nmcli -t -f RUNNING general 2>/dev/null)" = running; then way=nmcli
  elif test -f "/etc/sysconfig/network/ifcfg-$device"; then way=wicked
  elif test -f "/etc/sysconfig/network-scripts/ifcfg-$device"; then way=ifcfg
  elif test -f /etc/network/interfaces && has ifup; then way=ifupdown
  else stop 'who sets addresses here is none of netplan, NetworkManager, wicked, network-scripts and ifupdown'; fi
  say "   On $device, by $way; the way out is ${router:-nowhere}; names are asked of ${resolvers:-nobody}."
  can_be_fixed
  rm -f "$STATE/address-kept" "$STATE/address-back" "$STATE/address-failed"
  # The terminal may hang by the old address.
  trap '' HUP
  TRIAL=yes
  printf '%s\n' "$device" > "$STATE/kept/device"
  change "address $way"
  # Whoever watches does not end with the terminal.
  (
    trap - EXIT
    set +e
    seconds=0
    while test "$seconds" -lt "$TRIED_FOR" && waiting; do sleep 1; seconds=$((seconds + 1)); done
    if test -e "$STATE/address-kept"; then exit 0; fi
    address_back "$way"
    unchange "address $way"
    touch "$STATE/address-back"
  ) </dev/null >/dev/null 2>&1 &
  "address_$way"
  say "   Tried for $TRIED_FOR seconds, and then taken back, unless somebody says that it works:"
  say "   type yes here, or, at the new address: sudo touch $STATE/address-kept"
  (
    trap - EXIT
    sh -c 'echo "$PPID"' > "$STATE/reader"
    while IFS= read -r answer; do
      if test "$answer" = yes; then touch "$STATE/address-kept"; break; fi
    done
  ) 2>/dev/null </dev/tty &
  until test -e "$STATE/address-kept" || test -e "$STATE/address-back"; do sleep 1; done
  kill "$(cat "$STATE/reader")" 2>/dev/null || :
  rm -f "$STATE/reader"
  TRIAL=
  if test -e "$STATE/address-back"; then stop 'nobody said that the address works: it is as it was'; fi
  say '   It stays.'
}
address_netplan() {
  mkdir -p "$STATE/kept/netplan"
  mv /etc/netplan/*.yaml "$STATE/kept/netplan/"
  {
    echo 'network:'
    echo '  version: 2'
    echo '  ethernets:'
    echo "    $device:"
    echo '      dhcp4: false'
    echo "      addresses: [$ADDRESS]"
    if test -n "$router"; then printf '      routes:\n        - {to: default, via: %s}\n' "$router"; fi
    if test -n "$resolvers"; then echo "      nameservers: {addresses: [$(echo $resolvers | sed 's/ /, /g')]}"; fi
  } > /etc/netplan/90-lantern.yaml
  chmod 600 /etc/netplan/90-lantern.yaml
  netplan apply
}
address_nmcli() {
  old=$(nmcli -t -g GENERAL.CONNECTION device show "$device")
  test -n "$old" || stop "NetworkManager has no connection on $device"
  printf '%s\n' "$old" > "$STATE/kept/connection"
  nmcli connection clone "$old" lantern
  nmcli connection modify lantern connection.interface-name "$device" connection.autoconnect yes \
    ipv4.method manual ipv4.addresses "$ADDRESS" ipv4.gateway "$router" ipv4.dns "$resolvers"
  nmcli connection modify "$old" connection.autoconnect no
  nmcli connection up lantern
}
address_wicked() {
  for file in "ifcfg-$device" "ifroute-$device"; do
    if test -f "/etc/sysconfig/network/$file"; then cp -p "/etc/sysconfig/network/$file" "$STATE/kept/"; fi
  done
  printf "BOOTPROTO='static'\nSTARTMODE='auto'\nIPADDR='%s'\n" "$ADDRESS" > "/etc/sysconfig/network/ifcfg-$device"
  if test -n "$router"; then printf 'default %s - %s\n' "$router" "$device" > "/etc/sysconfig/network/ifroute-$device"; fi
  if test -n "$resolvers" && test -f /etc/sysconfig/network/config; then
    cp -p /etc/sysconfig/network/config "$STATE/kept/"
    sed -i "s/^NETCONFIG_DNS_STATIC_SERVERS=.*/NETCONFIG_DNS_STATIC_SERVERS=\"$resolvers\"/" /etc/sysconfig/network/config
    netconfig update -f
  fi
  wicked ifreload "$device"
}
address_ifcfg() {
  cp -p "/etc/sysconfig/network-scripts/ifcfg-$device" "$STATE/kept/"
  {
    printf 'DEVICE=%s\nONBOOT=yes\nBOOTPROTO=none\n' "$device"
    printf 'IPADDR=%s\nPREFIX=%s\n' "${ADDRESS%/*}" "${ADDRESS#*/}"
    if test -n "$router"; then echo "GATEWAY=$router"; fi
    number=1
    for resolver in $resolvers; do echo "DNS$number=$resolver"; number=$((number + 1)); done
  } > "/etc/sysconfig/network-scripts/ifcfg-$device"
  ifdown "$device" || :
  ifup "$device"
}
address_ifupdown() {
  cp -p /etc/network/interfaces "$STATE/kept/"
  ifdown --force "$device" || :
  # All but what is said of this interface, and then ours.
  awk -v device="$device" '
    $1 ~ /^(iface|auto|mapping|source|source-directory|no-auto-down|no-scripts)$/ || $1 ~ /^allow-/ { skip = 0 }
    $1 == "iface" && $2 == device && $3 == "inet" { skip = 1 }
    skip { next }
    { print }
  ' "$STATE/kept/interfaces" > /etc/network/interfaces
  {
    grep -Eq "^(auto|allow-hotplug)[[:space:]]+(.*[[:space:]])?$device([[:space:]]|\$)" /etc/network/interfaces || echo "auto $device"
    echo "iface $device inet static"
    echo "  address $ADDRESS"
    if test -n "$router"; then echo "  gateway $router"; fi
    if test -n "$resolvers"; then echo "  dns-nameservers $resolvers"; fi
  } > "$STATE/ours"
  cat "$STATE/ours" >> /etc/network/interfaces
  rm -f "$STATE/ours"
  ifup "$device"
  # Without this program nobody reads what interfaces say of resolvers.
  if test -n "$RESOLVERS" && test -f /etc/resolv.conf && test "$(command -v resolvconf)" = ''; then
    cp -p /etc/resolv.conf "$STATE/kept/"
    { grep -v '^nameserver' "$STATE/kept/resolv.conf" || :
      for resolver in $RESOLVERS; do echo "nameserver $resolver"; done; } > /etc/resolv.conf
  fi
}
