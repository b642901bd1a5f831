service_name() {
  unit=sshd
  if test "$SYSTEM" = debian; then unit=ssh; fi
}
