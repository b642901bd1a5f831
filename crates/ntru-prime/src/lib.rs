//! Streamlined NTRU Prime with the parameter set sntrup761: a key encapsulation that no quantum computer is known to break.
//!
//! It is one half of the key exchange that many SSH servers choose first, so a pair of keys is made for every login to one,
//! and its speed is the speed of that login. The rings are computed with in plain loops over arrays, without branches and
//! without indices that depend on secrets, shaped so that a compiler turns them into vector instructions.
//!
//! ```text
//! R/3: polynomials modulo x^761 - x - 1 with coefficients -1, 0, 1     ring3.rs
//! R/q: the same with coefficients modulo 4591                          ringq.rs
//! bytes of both                                                        encode.rs
//! random small polynomials                                             small.rs
//! keys and secrets of those                                            kem.rs
//! ```
//!
//! Source: "NTRU Prime: round 3" (2020), sections 3 and 4. How SSH uses it: draft-ietf-sshm-ntruprime-ssh.

mod encode;
mod field;
mod kem;
mod ring3;
mod ringq;
mod small;

pub use kem::{DecapsulationKey, EncapsulationKey, SharedSecret};

/// Degree of the polynomials.
const P: usize = 761;
/// Modulus of the large coefficients.
const Q: i32 = 4591;
/// How many coefficients of a short polynomial are not zero.
const W: usize = 286;

/// A polynomial with coefficients -1, 0 and 1.
type Small = [i8; P];
/// A polynomial with coefficients from -(q-1)/2 to (q-1)/2.
type Large = [i16; P];

/// Length of an encoded small polynomial, in bytes.
const SMALL_LEN: usize = P.div_ceil(4);
/// Length of an encoded polynomial of rounded coefficients, in bytes.
const ROUNDED_LEN: usize = 1007;
/// Length of a hash, in bytes: half of SHA-512.
const HASH_LEN: usize = 32;
/// Length of an encapsulation key, in bytes.
pub const ENCAPSULATION_KEY_LEN: usize = 1158;
/// Length of a ciphertext, in bytes.
pub const CIPHERTEXT_LEN: usize = ROUNDED_LEN + HASH_LEN;
