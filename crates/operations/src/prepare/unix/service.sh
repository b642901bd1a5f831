# Installs a package of the system's own.
install_package() {
  say "   The package $1 is installed."
  case $SYSTEM in
    debian)
      export DEBIAN_FRONTEND=noninteractive
      apt-get install -y -qq "$1" >/dev/null || { apt-get update -qq; apt-get install -y -qq "$1" >/dev/null; } ;;
    redhat) if has dnf; then dnf install -y -q "$1"; else yum install -y -q "$1"; fi ;;
    suse) zypper --non-interactive --quiet install "$1" ;;
  esac
  change "package $1"
}
ssh_service() {
  step 'The SSH service is installed'
  if test -x "$SSHD"; then say '   It was there.'; else install_package openssh-server; fi
  step 'The SSH service runs, and starts with the machine'
  service_name
  if test -d /run/systemd/system; then
    # Some systems start it with the first connection.
    if systemctl is-enabled --quiet "$unit.socket" 2>/dev/null; then unit=$unit.socket; fi
    if systemctl is-enabled --quiet "$unit"; then say '   It was enabled.'; else
      systemctl enable --quiet "$unit"
      change "enabled $unit"
    fi
    if systemctl is-active --quiet "$unit"; then say '   It was running.'; else
      systemctl start "$unit"
      change "started $unit"
    fi
  elif service "$unit" status >/dev/null 2>&1; then say '   It was running.'; else
    service "$unit" start
    change "started $unit"
  fi
  settings=$("$SSHD" -T)
  PORT=$(printf '%s\n' "$settings" | sed -n 's/^port //p' | head -n 1)
}
