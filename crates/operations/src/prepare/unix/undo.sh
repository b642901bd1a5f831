undo() {
  if test -s "$STATE/changes"; then :; else
    say 'Nothing was done here by "machine prepare", or all of it was taken back.'
    rmdir "$STATE/kept" "$STATE" 2>/dev/null || :
    trap - EXIT
    exit 0
  fi
  service_name
  changes address | while IFS= read -r way; do step "The address is as it was ($way)"; address_back "$way"; done
  if changed 'passwords off'; then
    step 'Passwords are as they were'
    passwords_back
  fi
  # The keys that were put there, and no others.
  put=$(changes key)
  changes list | while IFS= read -r list; do
    test -n "$put" || continue
    step "Keys are out of $list again"
    if id -- "$LOGIN" >/dev/null 2>&1; then as_user sh -c '
      umask 077
      test -f "$1" || exit 0
      list=$(readlink -f "$1")
      printf "%s\n" "$2" > "$list.put" || exit 1
      # 1 is: no line is left. What could not be written whole replaces nothing.
      grep -vxF -f "$list.put" -- "$list" > "$list.new"
      if test $? -gt 1; then rm -f "$list.new" "$list.put"; exit 1; fi
      mv "$list.new" "$list"
      rm -f "$list.put"
    ' sh "$list" "$put"; fi
  done
  step 'The firewall is as it was'
  changes ufw | while IFS= read -r rule; do ufw delete allow $rule; done
  changes ufw-wide | while IFS= read -r rule; do ufw $rule; done
  changes firewalld | while read -r zone rule; do
    firewall-cmd --quiet --permanent --zone="$zone" --remove-rich-rule="$rule"
  done
  changes firewalld-wide | while read -r zone rule; do
    firewall-cmd --quiet --permanent --zone="$zone" --add-"$rule"
  done
  if grep -q '^firewalld' "$STATE/changes"; then firewall-cmd --quiet --reload; fi
  if changed nftables; then
    if nft list table inet lantern_ssh >/dev/null 2>&1; then nft delete table inet lantern_ssh; fi
    if test -f /etc/systemd/system/lantern-ssh-filter.service; then
      systemctl disable --quiet lantern-ssh-filter.service
      rm -f /etc/systemd/system/lantern-ssh-filter.service
      systemctl daemon-reload
    fi
    rm -f /etc/lantern/ssh.nft
    rmdir /etc/lantern 2>/dev/null || :
  fi
  step 'The SSH service is as it was'
  changes started | while IFS= read -r unit; do
    if test -d /run/systemd/system; then systemctl stop "$unit"; else service "$unit" stop; fi
  done
  changes enabled | while IFS= read -r unit; do systemctl disable --quiet "$unit"; done
  say '   Packages stay, and so do users with their homes:'
  changes package | while IFS= read -r name; do say "   the package $name was installed"; done
  changes user | while IFS= read -r name; do say "   the user $name was made (userdel --remove $name takes it away with its home)"; done
  rm -r "$STATE"
  trap - EXIT
  say ''
  say 'What was done is taken back.'
}
