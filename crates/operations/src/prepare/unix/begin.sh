STATE=/var/lib/lantern-prepare
STEP='looking at the system'
TRIAL=
PATH=$PATH:/usr/sbin:/sbin
SSHD=/usr/sbin/sshd
say() { printf '%s\n' "$*"; }
step() { STEP=$1; say "== $1"; }
stop() {
  trap - EXIT
  say "Stopped at: $STEP"
  say "  $1"
  if test -n "$TRIAL"; then
    touch "$STATE/address-failed"
    say '  The address is put back as it was.'
  fi
  say "  Nothing after that was done. It can be pasted again; $BACK"
  exit 1
}
# What was changed is noted, so that it can be taken back, and only that.
change() { grep -qxF -- "$1" "$STATE/changes" 2>/dev/null || printf '%s\n' "$1" >> "$STATE/changes"; }
unchange() { grep -vxF -- "$1" "$STATE/changes" > "$STATE/changes.new" || :; mv "$STATE/changes.new" "$STATE/changes"; }
changed() { grep -qxF -- "$1" "$STATE/changes" 2>/dev/null; }
changes() { sed -n "s/^$1 //p" "$STATE/changes" 2>/dev/null; }
hashed() { sha256sum | cut -c1-64; }
has() { command -v "$1" >/dev/null 2>&1; }
begin() {
  trap 'stop "the last command failed; what it said is above"' EXIT
  test "$(id -u)" = 0 || stop "this must be run as root: sudo -i (or su -) first, then paste it again"
  ids=$(sed -n 's/^ID=//p; s/^ID_LIKE=//p' /etc/os-release 2>/dev/null | tr -d '"' | tr '\n' ' ')
  case " $ids " in
    *debian*|*ubuntu*) met=debian ;;
    *rhel*|*fedora*|*centos*) met=redhat ;;
    *suse*) met=suse ;;
    *) met=unknown ;;
  esac
  test "$met" = "$SYSTEM" || stop "this is for $SYSTEM, and the machine says that it is ${ids:-nothing}"
  mkdir -p -m 0700 "$STATE" "$STATE/kept"
}
