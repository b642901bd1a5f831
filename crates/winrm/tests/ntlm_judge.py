"""The other side of an NTLM login, by the system's GSS-API and its NTLM mechanism: `accept` or `initiate`, messages as lines of hexadecimal digits.

Channel bindings come as the second argument: the hash of a certificate, or nothing.
"""

import struct
import sys

import gssapi
from gssapi.raw import ChannelBindings

NTLM = gssapi.OID.from_int_seq("1.3.6.1.4.1.311.2.2.10")


def read():
    return bytes.fromhex(sys.stdin.readline().strip())


def write(message):
    print(message.hex(), flush=True)


def main():
    role, binding = sys.argv[1], bytes.fromhex(sys.argv[2])
    bindings = ChannelBindings(application_data=b"tls-server-end-point:" + binding) if binding else None
    flags = gssapi.RequirementFlag.confidentiality | gssapi.RequirementFlag.integrity
    if role == "accept":
        context = gssapi.SecurityContext(usage="accept", channel_bindings=bindings)
        write(context.step(read()))
        context.step(read())
        print("user", context.initiator_name, flush=True)
    else:
        name = gssapi.Name(r"COAST\keeper", gssapi.NameType.user)
        creds = gssapi.raw.acquire_cred_with_password(name, b"high water", usage="initiate", mechs=[NTLM]).creds
        target = gssapi.Name("HTTP@chart-room", gssapi.NameType.hostbased_service)
        context = gssapi.SecurityContext(name=target, creds=gssapi.Credentials(base=creds), usage="initiate", mech=NTLM, flags=flags, channel_bindings=bindings)
        write(context.step())
        write(context.step(read()))
    # Each side says something, twice: the second time the key stream has moved on.
    for text in (b"the lamp is lit", b"the lamp is out"):
        sealed = context.wrap(text, True).message
        write(sealed)
        print(context.unwrap(read()).message.decode(), flush=True)


main()
