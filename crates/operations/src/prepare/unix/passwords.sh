DROP_IN=/etc/ssh/sshd_config.d/00-lantern.conf
CONFIG=/etc/ssh/sshd_config
reload() {
  service_name
  if test -d /run/systemd/system; then systemctl reload-or-restart "$unit"; else service "$unit" reload; fi
}
settings_of_login() { "$SSHD" -T -C "user=$LOGIN,host=localhost,addr=${FROM%%[ /]*}"; }
passwords_back() {
  rm -f "$DROP_IN"
  if test -f "$STATE/kept/sshd_config"; then
    cp -p "$STATE/kept/sshd_config" "$CONFIG.new"
    mv "$CONFIG.new" "$CONFIG"
    rm -f "$STATE/kept/sshd_config"
  fi
  "$SSHD" -t
  reload
}
passwords_off() {
  if changed 'passwords off' && settings_of_login | grep -qx 'passwordauthentication no'; then
    trap - EXIT
    say "Passwords open nothing on $NAME: they were switched off before."
    exit 0
  fi
  step "The key of $LOGIN has logged in"
  house=$(getent passwd -- "$LOGIN" | cut -d: -f6)
  met=$(as_user cat "$house/.lantern-key-proof" 2>/dev/null | hashed)
  test "$met" = "$PROOF" ||
    stop 'no login by key has left its proof here: print this script again, on the computer that has the key'
  step 'Passwords are switched off'
  umask 077
  if grep -Eqi '^[[:space:]]*Include[[:space:]]+/etc/ssh/sshd_config\.d/' "$CONFIG"; then
    mkdir -p -m 0755 "${DROP_IN%/*}"
    printf '%s\n' '# Written by lantern.' 'PasswordAuthentication no' 'KbdInteractiveAuthentication no' > "$DROP_IN"
    chmod 600 "$DROP_IN"
  else
    # What stands first counts.
    test -f "$STATE/kept/sshd_config" || cp -p "$CONFIG" "$STATE/kept/sshd_config"
    cp -p "$CONFIG" "$CONFIG.new"
    { printf '%s\n' '# Written by lantern.' 'PasswordAuthentication no' 'ChallengeResponseAuthentication no'
      cat "$STATE/kept/sshd_config"; } > "$CONFIG.new"
    mv "$CONFIG.new" "$CONFIG"
  fi
  change 'passwords off'
  if "$SSHD" -t && settings_of_login | grep -qx 'passwordauthentication no' &&
    settings_of_login | grep -qx 'pubkeyauthentication yes' &&
    test -z "$(settings_of_login | grep -Ex '(kbdinteractive|challengeresponse)authentication yes')"; then :; else
    passwords_back
    stop 'the settings of the SSH service would not have it; they are as they were'
  fi
  reload
  as_user rm -f "$house/.lantern-key-proof"
  trap - EXIT
  say ''
  say "Passwords open nothing on $NAME any more. Connections that are open go on."
  matching=$(grep -lEi '^[[:space:]]*Match[[:space:]]' "$CONFIG" "${DROP_IN%/*}"/*.conf 2>/dev/null | tr '\n' ' ' || :)
  if test -n "$matching"; then say "But these have Match blocks, which may say otherwise for other users: $matching"; fi
  say "To take it back: $BACK"
}
