//! Why it is as it is: defaults, refusals, known attacks.
//!
//! # Defaults
//!
//! Key exchange prefers the hybrids with a quantum-safe part ([`crate::algorithm::KexAlgorithm::ALL`]): traffic recorded
//! today must stay secret when a quantum computer exists. Among ciphers AES-GCM comes first where the processor has
//! AES instructions and ChaCha20-Poly1305 where it has not ([`crate::Offer::new`]). Counter mode with a MAC is there
//! for old servers, the MAC over the ciphertext first.
//!
//! # Refusals
//!
//! SHA-1, CBC modes, DSA, `ssh-rsa` signatures, RSA below 2048 bits and groups below 2048 bits are not spoken at
//! all. A server that has nothing else gets [`crate::algorithm::NothingInCommon`], which lists what it offers
//! and which document retired each name ([`crate::algorithm::retired`]). Compression is not spoken: before login it has
//! been a hole more than once, and what is worth compressing is compressed already.
//!
//! # Known attacks
//!
//! - *Prefix truncation* (packets slipped in before the keys, and as many cut off after): answered by strict key
//!   exchange ([`crate::Client::is_strict`]), which resets the packet numbers with the keys and ends the connection
//!   on any stray message during the exchange.
//! - *Downgrade*: both offers are part of the signed exchange hash (RFC 4253 §8). A guess ([`crate::Guess`]) never changes what
//!   is chosen: where it would, the connection ends with [`crate::SshError::GuessOutdated`].
//! - *Extensions slipped in*: EXT_INFO is believed in its two places (RFC 8308 §2.4) and nowhere else, in clear least of all.
//! - *A host key that changes in mid-connection*: only the key trusted at first is accepted when keys are renewed.
//! - *Terminal injection* by banners, prompts and error texts: [`crate::neutralize`] before anything is shown.
//! - *Memory exhaustion*: [`crate::limits`]; lengths are checked before anything is allocated, data is bounded by windows that
//!   only widen as it is used and share one budget, crumbs of data do not keep whole blocks alive, and a peer that asks
//!   without reading our answers is not heard. All of it together stays below [`crate::limits::MAX_HELD`].
//! - *Waiting for ever*: each answer has its limit, a login has one as a whole, and so has a re-exchange.
//! - *Timing of keystrokes* is not hidden: packets leave as data comes.
//!
//! # Randomness
//!
//! Cookies, padding and finite-field exponents come from the caller's [`lantern_keys::RandomSource`]. Ephemeral curve keys
//! and ML-KEM keys are made inside the cryptographic library, from its own source; so a connection with a fixed
//! seed is deterministic in what it says, not in its keys. Keys of sntrup761 are made from the caller's source.
//!
//! The library is built without its second source of entropy, the jitter of the processor, and takes its seed from the kernel's
//! generator alone, which collects such noise itself. The second source costs each process a tenth of a second before its
//! first random byte: more than a login.
