//! Terminal modes as `pty-req` carries them (RFC 4254 §8): pairs of an opcode and a number, ended by 0.

use lantern_keys::wire::{Reader, Writer};

/// TTY_OP_END
const END: u8 = 0;
/// Opcodes from here on have no agreed length and end the list (RFC 4254 §8).
const FIRST_UNDEFINED: u8 = 160;

/// Opcodes of RFC 4254 §8 and RFC 8160.
pub mod opcode {
    #![allow(missing_docs)]
    pub const VINTR: u8 = 1;
    pub const VQUIT: u8 = 2;
    pub const VERASE: u8 = 3;
    pub const VKILL: u8 = 4;
    pub const VEOF: u8 = 5;
    pub const VEOL: u8 = 6;
    pub const VEOL2: u8 = 7;
    pub const VSTART: u8 = 8;
    pub const VSTOP: u8 = 9;
    pub const VSUSP: u8 = 10;
    pub const VREPRINT: u8 = 12;
    pub const VWERASE: u8 = 13;
    pub const VLNEXT: u8 = 14;
    pub const VDISCARD: u8 = 18;
    pub const IGNPAR: u8 = 30;
    pub const PARMRK: u8 = 31;
    pub const INPCK: u8 = 32;
    pub const ISTRIP: u8 = 33;
    pub const INLCR: u8 = 34;
    pub const IGNCR: u8 = 35;
    pub const ICRNL: u8 = 36;
    pub const IXON: u8 = 38;
    pub const IXANY: u8 = 39;
    pub const IXOFF: u8 = 40;
    pub const IMAXBEL: u8 = 41;
    pub const IUTF8: u8 = 42;
    pub const ISIG: u8 = 50;
    pub const ICANON: u8 = 51;
    pub const ECHO: u8 = 53;
    pub const ECHOE: u8 = 54;
    pub const ECHOK: u8 = 55;
    pub const ECHONL: u8 = 56;
    pub const NOFLSH: u8 = 57;
    pub const TOSTOP: u8 = 58;
    pub const IEXTEN: u8 = 59;
    pub const ECHOCTL: u8 = 60;
    pub const ECHOKE: u8 = 61;
    pub const OPOST: u8 = 70;
    pub const ONLCR: u8 = 72;
    pub const OCRNL: u8 = 73;
    pub const ONOCR: u8 = 74;
    pub const ONLRET: u8 = 75;
    pub const CS7: u8 = 90;
    pub const CS8: u8 = 91;
    pub const PARENB: u8 = 92;
    pub const PARODD: u8 = 93;
    pub const TTY_OP_ISPEED: u8 = 128;
    pub const TTY_OP_OSPEED: u8 = 129;
}

/// Encodes modes for [`crate::PtyRequest::modes`].
pub fn encode(modes: &[(u8, u32)]) -> Vec<u8> {
    let mut out = Vec::with_capacity(modes.len() * 5 + 1);
    for (opcode, value) in modes {
        out.put_byte(*opcode);
        out.put_uint32(*value);
    }
    out.put_byte(END);
    out
}

/// Decodes modes up to the end or the first opcode without an agreed length.
pub fn decode(bytes: &[u8]) -> Vec<(u8, u32)> {
    let mut reader = Reader::new(bytes);
    let mut modes = Vec::new();
    while let Ok(opcode) = reader.u8("opcode") {
        if opcode == END || opcode >= FIRST_UNDEFINED {
            break;
        }
        let Ok(value) = reader.u32("argument") else { break };
        modes.push((opcode, value));
    }
    modes
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn modes_survive_the_wire(modes in proptest::collection::vec((1u8..160, any::<u32>()), 0..64)) {
            prop_assert_eq!(super::decode(&super::encode(&modes)), modes);
        }

        #[test]
        fn arbitrary_modes_are_harmless(bytes: Vec<u8>) {
            prop_assert!(super::decode(&bytes).len() <= bytes.len() / 5);
        }
    }
}
