address_back() {
  device=$(cat "$STATE/kept/device")
  case $1 in
    netplan)
      rm -f /etc/netplan/90-lantern.yaml
      mv "$STATE"/kept/netplan/*.yaml /etc/netplan/ || :
      netplan apply ;;
    nmcli)
      old=$(cat "$STATE/kept/connection")
      nmcli connection modify "$old" connection.autoconnect yes
      nmcli connection up "$old"
      nmcli connection delete lantern ;;
    wicked)
      rm -f "/etc/sysconfig/network/ifroute-$device"
      for file in "ifcfg-$device" "ifroute-$device"; do
        if test -f "$STATE/kept/$file"; then cp -p "$STATE/kept/$file" /etc/sysconfig/network/; fi
      done
      if test -f "$STATE/kept/config"; then
        cp -p "$STATE/kept/config" /etc/sysconfig/network/
        netconfig update -f
      fi
      wicked ifreload "$device" ;;
    ifcfg)
      cp -p "$STATE/kept/ifcfg-$device" /etc/sysconfig/network-scripts/
      ifdown "$device" || :
      ifup "$device" ;;
    ifupdown)
      ifdown --force "$device" || :
      cp -p "$STATE/kept/interfaces" /etc/network/interfaces
      if test -f "$STATE/kept/resolv.conf"; then cp -p "$STATE/kept/resolv.conf" /etc/resolv.conf; fi
      ifup "$device" ;;
  esac
}
