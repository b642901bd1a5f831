//! Signals by the names of RFC 4254 §6.10 and the numbers that POSIX and common systems give them.

/// Names without SIG, with their usual number.
const SIGNALS: [(&str, u8); 13] = [
    ("HUP", 1),
    ("INT", 2),
    ("QUIT", 3),
    ("ILL", 4),
    ("ABRT", 6),
    ("FPE", 8),
    ("KILL", 9),
    ("USR1", 10),
    ("SEGV", 11),
    ("USR2", 12),
    ("PIPE", 13),
    ("ALRM", 14),
    ("TERM", 15),
];

/// The number of a signal by its name without SIG.
pub fn number(name: &str) -> Option<u8> {
    SIGNALS.iter().find(|(known, _)| *known == name).map(|(_, number)| *number)
}
