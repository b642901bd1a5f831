#!/usr/bin/env bash
# Runs every test. As root it first installs the Debian packages that tests need: a real SSH server to test against,
# and small programs that the tests run on it.
set -euo pipefail
cd "$(dirname "$0")"

packages=(apache2 curl fuse3 git gss-ntlmssp iproute2 krb5-admin-server krb5-kdc krb5-user less libapache2-mod-auth-gssapi libmono-system-core4.0-cil mono-mcs mono-runtime nftables openssh-server openssl procps python3-bcrypt python3-cryptography python3-gssapi rsync sssd-kcm sudo util-linux x11-apps x11-utils xauth xvfb)
missing=()
for package in "${packages[@]}"; do
    dpkg-query --show --showformat='${Status}\n' "$package" 2>/dev/null | grep -q 'install ok installed' || missing+=("$package")
done
if ((${#missing[@]})); then
    if [[ $(id -u) == 0 ]] && command -v apt-get >/dev/null; then
        apt-get update -qq
        DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
    else
        printf '*** Not installed: %s. Tests that need them are skipped. ***\n' "${missing[*]}" >&2
    fi
fi

cargo test --workspace --locked "$@"
