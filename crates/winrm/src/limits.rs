//! Every limit on what a peer can make us do, with its reason.

use std::time::Duration;

/// Most bytes of an answer, as text. We ask for [`LARGE_ENVELOPE`] at most; a peer that sends twice that does not keep to what was agreed.
pub const MAX_MESSAGE: usize = 1024 * 1024;
/// The envelope size that every stack takes (MS-WSMV 3.1.4.1, the default of version 2): 150 KiB.
pub const SMALL_ENVELOPE: u32 = 150 * 1024;
/// The envelope size that stack 3 and later take by default: 500 KiB.
pub const LARGE_ENVELOPE: u32 = 500 * 1024;
/// How deep elements may be nested. What we read is six deep, faults with their details a little more.
pub const MAX_DEPTH: usize = 64;
/// Most elements of a message. An answer with output has one for each piece; a piece has hundreds of bytes at least where there are many.
pub const MAX_ELEMENTS: usize = 20_000;
/// Most attributes of one element: the widest that we know has seven, and a parser compares each with each.
pub const MAX_ATTRIBUTES: usize = 32;
/// Most bytes of a shell's or a command's name: they are 36 long.
pub const MAX_ID: usize = 128;
/// How long a machine holds a request that has nothing to answer yet, before it says so and is asked again.
pub const OPERATION_TIMEOUT: Duration = Duration::from_secs(60);
/// How much longer its answer may be under way.
pub const ANSWER_MARGIN: Duration = Duration::from_secs(10);
/// Room in an envelope for all that is not data, in bytes.
pub const ENVELOPE_OVERHEAD: usize = 4096;
/// Most bytes of standard input that wait to be sent: four envelopes' worth.
pub const MAX_UNSENT: usize = 512 * 1024;
/// The longest command line that the command interpreter takes, in UTF-16 units.
pub const MAX_INTERPRETER_LINE: usize = 8191;
/// The longest command line of a program, in UTF-16 units, with its closing null.
pub const MAX_PROGRAM_LINE: usize = 32_767;
/// Most bytes of a sealed part's signature: Kerberos needs 60, NTLM 16, others less than this.
pub const MAX_SIGNATURE: usize = 1024;
