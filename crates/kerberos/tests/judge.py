"""The other side of a login with tickets, by the system's GSS-API: `accept KEYS` or `initiate SERVICE`, messages as lines of hexadecimal digits.

Channel bindings come as the last argument: the hash of a certificate, or nothing.
"""

import sys

import gssapi
from gssapi.raw import ChannelBindings


def read():
    return bytes.fromhex(sys.stdin.readline().strip())


def write(message):
    print(message.hex(), flush=True)


def main():
    role, name, mechanism, binding = sys.argv[1], sys.argv[2], sys.argv[3], bytes.fromhex(sys.argv[4])
    bindings = ChannelBindings(application_data=b"tls-server-end-point:" + binding) if binding else None
    mech = gssapi.MechType.kerberos if mechanism == "kerberos" else gssapi.OID.from_int_seq("1.3.6.1.5.5.2")
    if role == "accept":
        creds = gssapi.Credentials(usage="accept", store={"keytab": name})
        context = gssapi.SecurityContext(creds=creds, usage="accept", channel_bindings=bindings)
        write(context.step(read()))
        print("user", context.initiator_name, "delegated" if context.delegated_creds else "alone", flush=True)
    else:
        flags = gssapi.RequirementFlag
        wanted = flags.confidentiality | flags.integrity | flags.mutual_authentication | flags.out_of_sequence_detection
        target = gssapi.Name(name, gssapi.NameType.kerberos_principal)
        context = gssapi.SecurityContext(name=target, usage="initiate", mech=mech, flags=wanted, channel_bindings=bindings)
        write(context.step())
        context.step(read())
    # Each side says something, twice: the second time the numbers have moved on.
    for text in (b"the lamp is lit", b"the lamp is out"):
        write(context.wrap(text, True).message)
        print(context.unwrap(read()).message.decode(), flush=True)
    write(context.get_signature(b"so be it"))
    context.verify_signature(b"and so it is", read())
    print("verified", flush=True)


main()
