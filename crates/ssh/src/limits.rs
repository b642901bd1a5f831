//! Every limit on what a peer can make us do, with its reason.

use std::time::Duration;

/// Longest identification line, in bytes, line end included (RFC 4253 §4.2).
pub const MAX_IDENTIFICATION_LEN: usize = 255;
/// Most lines that a server may send ahead of its identification. RFC 4253 §4.2 sets no number; a legal notice
/// has a few dozen lines.
pub const MAX_PROLOGUE_LINES: usize = 1024;
/// Longest of those lines, in bytes: a terminal's worth many times over.
pub const MAX_PROLOGUE_LINE_LEN: usize = 8192;
/// Largest packet on the wire, in bytes, without its MAC: eight times what RFC 4253 §6.1 makes everyone handle, and
/// the largest that common servers send.
pub const MAX_PACKET_LEN: usize = 256 * 1024;
/// Longest name-list, in bytes: all algorithm names registered for one slot fit in a quarter of it.
pub const MAX_NAME_LIST_LEN: usize = 16 * 1024;
/// Most channels open at once on one connection: a busy gateway uses a few hundred.
pub const MAX_CHANNELS: usize = 4096;
/// Most host keys in one announcement: servers have one of each of five kinds, and two of each while they change them.
pub const MAX_HOST_KEYS: usize = 64;
/// Most bytes taken from a peer before it has authenticated: the largest keys and banners fit a hundred times.
pub const MAX_PRE_AUTH_BYTES: u64 = 2 * 1024 * 1024;
/// Longest time from connection to login, when no person has to answer, unless configured otherwise.
pub const DEFAULT_HANDSHAKE_TIME: Duration = Duration::from_secs(30);
/// Most authentication requests that our server role answers on one connection.
pub const MAX_AUTH_ATTEMPTS: u32 = 20;
/// Most prompts in one round of keyboard-interactive (RFC 4256 §3.2 sets no limit).
pub const MAX_PROMPTS: u32 = 64;
/// Longest banner kept, in bytes; the rest is cut off.
pub const MAX_BANNER_LEN: usize = 64 * 1024;
/// Most bytes of our own messages that wait for the end of a key re-exchange. Only answers to what the peer already
/// had in flight wait there.
pub const MAX_DEFERRED_BYTES: usize = 512 * 1024;
/// Most channel requests of ours without an answer, on one channel.
pub const MAX_UNANSWERED_REQUESTS: usize = 1024;
/// Most extensions in one EXT_INFO (RFC 8308 names four).
pub const MAX_EXTENSIONS: u32 = 256;
/// Most name-value environment entries our server role takes per channel.
pub const MAX_ENVIRONMENT: usize = 128;

/// Bytes waiting to be sent above which channel data is no longer accepted: two full sockets' worth.
pub const SEND_HIGH_WATER: usize = 256 * 1024;
/// Bytes waiting to be sent below which a channel that was refused is told that there is room: refilling in large
/// steps costs fewer turns, and the rest still keeps the line busy meanwhile.
pub const SEND_LOW_WATER: usize = 64 * 1024;
/// Largest channel data packet that we ask peers to send and send ourselves, in bytes. RFC 4253 §6.1 obliges
/// everyone to 32768; larger ones spend less on headers and tags.
pub const MAX_CHANNEL_PACKET: u32 = 64 * 1024;
/// Receive window that a channel starts with, in bytes: half a second of a 32 Mbit/s line.
pub const INITIAL_WINDOW: u32 = 2 * 1024 * 1024;
/// Receive window that a channel may grow to, in bytes: 1 Gbit/s over half a second.
pub const MAX_WINDOW: u32 = 64 * 1024 * 1024;

/// Re-key after this many bytes in either direction: RFC 4253 §9 recommends each gigabyte.
pub const REKEY_BYTES: u64 = 1 << 30;
/// Re-key after this many packets: RFC 4344 §3.1 says at the latest after 2³¹, before the numbers come round.
pub const REKEY_PACKETS: u64 = 1 << 31;
/// Re-key after this time: RFC 4253 §9 recommends each hour.
pub const REKEY_TIME: Duration = Duration::from_secs(3600);
