# What is written in somebody's home is written as that user: links in it lead nowhere else.
as_user() { runuser -u "$LOGIN" -- "$@" </dev/null; }
login() {
  step "The user $LOGIN is there"
  if id -- "$LOGIN" >/dev/null 2>&1; then say '   It was there.'; else
    # Without a password: nobody logs in with one.
    useradd --create-home --shell /bin/sh --password '*' -- "$LOGIN"
    if test -x /bin/bash; then usermod --shell /bin/bash -- "$LOGIN"; fi
    change "user $LOGIN"
  fi
  step "Keys let in as $LOGIN"
  printf '%s\n' "$settings" | grep -qx 'pubkeyauthentication yes' ||
    stop 'the SSH service takes no keys: "PubkeyAuthentication no" stands in its settings (/etc/ssh/sshd_config)'
  house=$(getent passwd -- "$LOGIN" | cut -d: -f6)
  test -d "$house" || stop "$LOGIN has no home folder: ${house:-none is said}"
  pattern=$(printf '%s\n' "$settings" | sed -n 's/^authorizedkeysfile //p' | cut -d' ' -f1)
  list=$(printf '%s\n' "${pattern:-.ssh/authorized_keys}" | sed "s|%h|$house|g; s|%u|$LOGIN|g")
  case $list in
    /*) ;;
    *) list=$house/$list ;;
  esac
  # A folder that others may write to is not believed by the service.
  as_user sh -c '
    umask 077
    folder=${2%/*}
    mkdir -p "$folder" && chmod go-w "$1" && chmod 700 "$folder" && touch "$2" && chmod 600 "$2" || exit 1
    if test -s "$2" && test -n "$(tail -c 1 "$2")"; then echo >> "$2"; fi
  ' sh "$house" "$list" || stop "the list of keys could not be written: $list"
  change "list $list"
  printf '%s\n' "$KEYS" | while IFS= read -r key; do
    if as_user grep -qxF -- "$key" "$list"; then say "   It was there: ${key##* }"; else
      as_user sh -c 'printf "%s\n" "$2" >> "$1"' sh "$list" "$key"
      change "key $key"
      say "   ${key##* }"
    fi
  done
  if has restorecon; then restorecon -R "$house/.ssh"; fi
}
