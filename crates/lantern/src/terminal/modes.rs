//! The modes of the real terminal, encoded for the machine's pseudo-terminal (RFC 4254 §8, RFC 8160), and its size.

use std::io::{stdin, stdout};

use lantern_ssh::TerminalSize;
use lantern_ssh::terminal_modes::{encode, opcode};
use rustix::termios::{
    ControlModes, InputModes, LocalModes, OutputModes, SpecialCodeIndex, tcgetattr, tcgetwinsize,
};

/// Special characters by opcode.
const CHARACTERS: [(u8, SpecialCodeIndex); 14] = [
    (opcode::VINTR, SpecialCodeIndex::VINTR),
    (opcode::VQUIT, SpecialCodeIndex::VQUIT),
    (opcode::VERASE, SpecialCodeIndex::VERASE),
    (opcode::VKILL, SpecialCodeIndex::VKILL),
    (opcode::VEOF, SpecialCodeIndex::VEOF),
    (opcode::VEOL, SpecialCodeIndex::VEOL),
    (opcode::VEOL2, SpecialCodeIndex::VEOL2),
    (opcode::VSTART, SpecialCodeIndex::VSTART),
    (opcode::VSTOP, SpecialCodeIndex::VSTOP),
    (opcode::VSUSP, SpecialCodeIndex::VSUSP),
    (opcode::VREPRINT, SpecialCodeIndex::VREPRINT),
    (opcode::VWERASE, SpecialCodeIndex::VWERASE),
    (opcode::VLNEXT, SpecialCodeIndex::VLNEXT),
    (opcode::VDISCARD, SpecialCodeIndex::VDISCARD),
];

const INPUT: [(u8, InputModes); 12] = [
    (opcode::IGNPAR, InputModes::IGNPAR),
    (opcode::PARMRK, InputModes::PARMRK),
    (opcode::INPCK, InputModes::INPCK),
    (opcode::ISTRIP, InputModes::ISTRIP),
    (opcode::INLCR, InputModes::INLCR),
    (opcode::IGNCR, InputModes::IGNCR),
    (opcode::ICRNL, InputModes::ICRNL),
    (opcode::IXON, InputModes::IXON),
    (opcode::IXANY, InputModes::IXANY),
    (opcode::IXOFF, InputModes::IXOFF),
    (opcode::IMAXBEL, InputModes::IMAXBEL),
    (opcode::IUTF8, InputModes::IUTF8),
];

const LOCAL: [(u8, LocalModes); 11] = [
    (opcode::ISIG, LocalModes::ISIG),
    (opcode::ICANON, LocalModes::ICANON),
    (opcode::ECHO, LocalModes::ECHO),
    (opcode::ECHOE, LocalModes::ECHOE),
    (opcode::ECHOK, LocalModes::ECHOK),
    (opcode::ECHONL, LocalModes::ECHONL),
    (opcode::NOFLSH, LocalModes::NOFLSH),
    (opcode::TOSTOP, LocalModes::TOSTOP),
    (opcode::IEXTEN, LocalModes::IEXTEN),
    (opcode::ECHOCTL, LocalModes::ECHOCTL),
    (opcode::ECHOKE, LocalModes::ECHOKE),
];

const OUTPUT: [(u8, OutputModes); 5] = [
    (opcode::OPOST, OutputModes::OPOST),
    (opcode::ONLCR, OutputModes::ONLCR),
    (opcode::OCRNL, OutputModes::OCRNL),
    (opcode::ONOCR, OutputModes::ONOCR),
    (opcode::ONLRET, OutputModes::ONLRET),
];

const CONTROL: [(u8, ControlModes); 3] = [
    (opcode::CS8, ControlModes::CS8),
    (opcode::PARENB, ControlModes::PARENB),
    (opcode::PARODD, ControlModes::PARODD),
];

/// The encoded modes of standard input; only the end mark when it is no terminal.
pub(crate) fn local() -> Vec<u8> {
    let Ok(termios) = tcgetattr(stdin()) else { return encode(&[]) };
    let mut modes: Vec<(u8, u32)> = Vec::new();
    modes.extend(CHARACTERS.map(|(opcode, index)| (opcode, character(termios.special_codes[index]))));
    modes.extend(INPUT.map(|(opcode, flag)| (opcode, termios.input_modes.contains(flag).into())));
    modes.extend(LOCAL.map(|(opcode, flag)| (opcode, termios.local_modes.contains(flag).into())));
    modes.extend(OUTPUT.map(|(opcode, flag)| (opcode, termios.output_modes.contains(flag).into())));
    modes.extend(CONTROL.map(|(opcode, flag)| (opcode, termios.control_modes.contains(flag).into())));
    modes.push((opcode::TTY_OP_ISPEED, termios.input_speed()));
    modes.push((opcode::TTY_OP_OSPEED, termios.output_speed()));
    encode(&modes)
}

/// A character that is switched off is 255 on the wire (RFC 4254 §8) and 0 here.
fn character(code: u8) -> u32 {
    if code == 0 { 255 } else { code.into() }
}

/// The size of the terminal; a common one when there is none.
pub(crate) fn size() -> TerminalSize {
    match tcgetwinsize(stdout()).or_else(|_| tcgetwinsize(stdin())) {
        Ok(size) if size.ws_col > 0 => TerminalSize {
            columns: size.ws_col.into(),
            rows: size.ws_row.into(),
            width_px: size.ws_xpixel.into(),
            height_px: size.ws_ypixel.into(),
        },
        _ => TerminalSize { columns: 80, rows: 24, width_px: 0, height_px: 0 },
    }
}
