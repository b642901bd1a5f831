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
/// Most bytes of our own messages that wait for the end of a key re-exchange. Only answers to what the peer already
/// had in flight wait there.
pub const MAX_DEFERRED_BYTES: usize = 512 * 1024;
/// Most channel requests of ours without an answer, on one channel.
pub const MAX_UNANSWERED_REQUESTS: usize = 1024;
/// Most extensions in one EXT_INFO (RFC 8308 names four).
pub const MAX_EXTENSIONS: u32 = 256;
/// Most name-value environment entries our server role takes per channel.
pub const MAX_ENVIRONMENT: usize = 128;

/// Bytes made into packets ahead of the line at first, and again when the line is slow: 7 ms at 10 Mbit/s.
pub const MIN_FILL: usize = 8 * 1024;
/// Bytes made into packets ahead of the line where it takes them as fast as they come: few turns for bulk data.
pub const MAX_FILL: usize = 256 * 1024;
/// Bytes of answers and messages waiting to be sent above which nothing more is read: a peer that asks without end and
/// does not read our answers is not heard until it does.
pub const MAX_PENDING: usize = 1024 * 1024;
/// Data that waits on one channel, in bytes: several turns of a bulk sender.
pub const MAX_CHANNEL_QUEUE: usize = 512 * 1024;
/// Data waiting on a channel below which a caller that found no room is told that there is some, in bytes.
pub const SEND_ROOM_LOW_WATER: usize = 256 * 1024;
/// Data that waits on all channels of a connection, in bytes, before each is held to [`MIN_CHANNEL_QUEUE`].
pub const MAX_QUEUED_BYTES: usize = 8 * 1024 * 1024;
/// Data that may wait on one channel however many there are, in bytes: no channel is locked out by others.
pub const MIN_CHANNEL_QUEUE: usize = 16 * 1024;
/// A channel with no more than this waiting is taken for interactive, and goes ahead of bulk data: a paste of a screen.
pub const INTERACTIVE_BYTES: usize = 4 * 1024;
/// Largest channel data packet that we ask peers to send and send ourselves, in bytes: what RFC 4253 §6.1 obliges everyone to take.
/// Larger ones spend a little less on headers and tags, but a common server that renews its keys by volume did so once for each
/// packet of 64 KiB, where it lets sixteen of this size pass.
pub const MAX_CHANNEL_PACKET: u32 = 32 * 1024;
/// Receive window that a channel starts with, in bytes: half a second of a 32 Mbit/s line.
pub const INITIAL_WINDOW: u32 = 2 * 1024 * 1024;
/// Receive window that a channel may grow to, in bytes: 1 Gbit/s over half a second.
pub const MAX_WINDOW: u32 = 64 * 1024 * 1024;

/// Receive window that a channel starts with at least, in bytes.
pub const MIN_INITIAL_WINDOW: u32 = 16 * 1024;
/// Receive windows of all channels together, in bytes, beyond which none grows and new ones get the smallest.
pub const MAX_WINDOWS: u64 = 128 * 1024 * 1024;
/// What all receive windows can add up to, in bytes.
pub const MAX_GRANTED: u64 = MAX_WINDOWS + MAX_CHANNELS as u64 * MIN_INITIAL_WINDOW as u64;
/// Where a peer's window is small, packets to it are made of half of it, but not smaller than this, in bytes.
pub const MIN_SPLIT_PACKET: u32 = 1024;
/// Received pieces smaller than this are copied together, in bytes; larger ones stay slices of the receive buffer, which keep
/// its block alive: [`SHARED_BLOCKS`] times their size at most.
pub const MIN_SHARED_SLICE: usize = 8 * 1024;
/// How many such slices a block of the receive buffer has room for. A driver reads at most that much at once.
pub const SHARED_BLOCKS: usize = 32;
/// Most that a driver should make room for at once in the receive buffer, in bytes.
pub const RECEIVE_BLOCK: usize = MIN_SHARED_SLICE * SHARED_BLOCKS;
/// Received data that was not taken yet, in bytes, above which everything is copied: whoever does not take it is slower than a copy.
pub const SHARE_BELOW: usize = 2 * RECEIVE_BLOCK;
/// Small pieces are copied together up to this size, in bytes.
pub const RECEIVED_PIECE: usize = 32 * 1024;
/// Most channels that the peer wants to open and that nobody has answered: a page with many parts opens hundreds at once.
pub const MAX_ASKED: usize = 1024;
/// Most announcements of host keys that are looked at on one connection: a server announces once, and again when its
/// keys change.
pub const MAX_ANNOUNCEMENTS: u32 = 16;
/// Most global requests of ours without an answer.
pub const MAX_GLOBAL_REQUESTS: usize = 256;
/// Most banners shown, in bytes, all of a login together.
pub const MAX_BANNERS_LEN: usize = 64 * 1024;
/// Most answers of a server to what we send while logging in: ten methods with ten rounds each.
pub const MAX_AUTH_ROUNDS: u32 = 100;
/// How many times the limit of one answer all the waiting of a login may add up to.
pub const WHOLE_LOGIN_FACTOR: u32 = 4;
/// What one connection can make us hold at most, in bytes, whatever its peer does: windows and the blocks that slices
/// of them keep alive, data of ours that waits, answers, and what the codec works on.
pub const MAX_HELD: u64 = MAX_GRANTED
    + (SHARE_BELOW * (SHARED_BLOCKS + 1)) as u64
    + (MAX_QUEUED_BYTES + MAX_CHANNELS * MIN_CHANNEL_QUEUE + MAX_CHANNEL_QUEUE) as u64
    + (2 * MAX_PENDING + MAX_DEFERRED_BYTES + 4 * RECEIVE_BLOCK + 16 * 1024 * 1024) as u64;

/// Re-key after this many bytes in either direction: RFC 4253 §9 recommends each gigabyte.
pub const REKEY_BYTES: u64 = 1 << 30;
/// Re-key after this many packets: RFC 4344 §3.1 says at the latest after 2³¹, before the numbers come round.
pub const REKEY_PACKETS: u64 = 1 << 31;
/// Re-key after this time: RFC 4253 §9 recommends each hour.
pub const REKEY_TIME: Duration = Duration::from_secs(3600);
