//! The key encapsulation: keys, ciphertexts, and the secret that both sides end up with.

use aws_lc_rs::constant_time::verify_slices_are_equal;
use aws_lc_rs::digest::{Context, SHA512};
use zeroize::{Zeroize, ZeroizeOnDrop, Zeroizing};

use crate::encode::{decode_large, decode_rounded, encode_large, encode_rounded, encode_small};
use crate::small::{random_short, random_small, wipe};
use crate::{
    CIPHERTEXT_LEN, ENCAPSULATION_KEY_LEN, HASH_LEN, Large, P, ROUNDED_LEN, SMALL_LEN, Small, W, ring3, ringq,
};

/// The secret that both sides end up with.
pub type SharedSecret = Zeroizing<[u8; HASH_LEN]>;

/// What is sent to whoever is to encapsulate a secret.
#[derive(Debug, Clone)]
pub struct EncapsulationKey {
    bytes: [u8; ENCAPSULATION_KEY_LEN],
    h: Large,
}

/// What opens a ciphertext.
#[derive(ZeroizeOnDrop)]
pub struct DecapsulationKey {
    f: Small,
    g_inverse: Small,
    /// What a ciphertext that is none is answered with, together with itself.
    rho: [u8; SMALL_LEN],
    #[zeroize(skip)]
    public: EncapsulationKey,
}

impl EncapsulationKey {
    /// From its wire form; none where the length is another.
    pub fn from_bytes(bytes: &[u8]) -> Option<Self> {
        let bytes = bytes.try_into().ok()?;
        Some(Self { h: decode_large(&bytes), bytes })
    }

    /// Its wire form.
    pub fn as_bytes(&self) -> &[u8; ENCAPSULATION_KEY_LEN] {
        &self.bytes
    }

    /// A new secret, and the ciphertext that carries it to the key's owner. `random` fills what it is given with random bytes.
    pub fn encapsulate(&self, random: &mut dyn FnMut(&mut [u8])) -> ([u8; CIPHERTEXT_LEN], SharedSecret) {
        let r = random_short(random);
        let encoded = Zeroizing::new(encode_small(&r));
        let ciphertext = self.hide(&r, &encoded);
        wipe(r);
        let secret = session_secret(1, &*encoded, &ciphertext);
        (ciphertext, secret)
    }

    /// The ciphertext of `r`, given also encoded.
    fn hide(&self, r: &Small, encoded: &[u8; SMALL_LEN]) -> [u8; CIPHERTEXT_LEN] {
        let mut ciphertext = [0; CIPHERTEXT_LEN];
        let (rounded, confirmation) = ciphertext.split_at_mut(ROUNDED_LEN);
        rounded.copy_from_slice(&encode_rounded(&ringq::round(&ringq::multiply(&self.h, r))));
        let own = hash(4, &[&self.bytes]);
        confirmation.copy_from_slice(&*hash(2, &[&*hash(3, &[encoded]), &*own]));
        ciphertext
    }
}

impl DecapsulationKey {
    /// A new pair. `random` fills what it is given with random bytes.
    pub fn generate(random: &mut dyn FnMut(&mut [u8])) -> Self {
        let (g, g_inverse) = loop {
            let g = random_small(random);
            // One in some hundred has none; that it was thrown away tells nothing about the next.
            if let Some(inverse) = ring3::reciprocal(&g) {
                break (g, inverse);
            }
        };
        let f = random_short(random);
        let mut rho = [0; SMALL_LEN];
        random(&mut rho);
        Self::derive(f, g, g_inverse, rho)
    }

    fn derive(f: Small, g: Small, g_inverse: Small, rho: [u8; SMALL_LEN]) -> Self {
        let mut f_inverse = ringq::reciprocal_of_triple(&f);
        let h = ringq::multiply(&f_inverse, &g);
        f_inverse.zeroize();
        wipe(g);
        Self { f, g_inverse, rho, public: EncapsulationKey { bytes: encode_large(&h), h } }
    }

    /// The key to send.
    pub fn encapsulation_key(&self) -> &EncapsulationKey {
        &self.public
    }

    /// The secret within a ciphertext; none where its length is another. A ciphertext that was not made with our key gives a
    /// secret that nobody else has, and nobody can tell the difference.
    pub fn decapsulate(&self, ciphertext: &[u8]) -> Option<SharedSecret> {
        let ciphertext: &[u8; CIPHERTEXT_LEN] = ciphertext.try_into().ok()?;
        let mut r = self.open(ciphertext.first_chunk()?);
        let encoded = Zeroizing::new(encode_small(&r));
        let mut again = self.public.hide(&r, &encoded);
        r.zeroize();
        let same = u8::from(verify_slices_are_equal(&again, ciphertext).is_ok());
        again.zeroize();
        let mask = 0u8.wrapping_sub(same);
        let mut chosen = Zeroizing::new(self.rho);
        for (to, from) in chosen.iter_mut().zip(encoded.iter()) {
            *to ^= mask & (*to ^ from);
        }
        Some(session_secret(same, &*chosen, ciphertext))
    }

    /// The short polynomial within a ciphertext, or a fixed one where there is none.
    fn open(&self, rounded: &[u8; ROUNDED_LEN]) -> Small {
        let mut product = ringq::multiply(&decode_rounded(rounded), &self.f);
        let mut error = ringq::triple_modulo_3(&product);
        let mut r = ring3::multiply(&error, &self.g_inverse);
        product.zeroize();
        error.zeroize();
        let weight: i16 = r.iter().map(|coefficient| i16::from(coefficient & 1)).sum();
        let wrong = crate::field::nonzero_mask(weight - W as i16) as i8;
        for (at, coefficient) in r.iter_mut().enumerate() {
            let fixed = i8::from(at < W);
            *coefficient ^= wrong & (*coefficient ^ fixed);
        }
        r
    }
}

const _: () = assert!(P > W);

/// Half of SHA-512 over a number and what follows it.
fn hash(number: u8, parts: &[&[u8]]) -> Zeroizing<[u8; HASH_LEN]> {
    let mut context = Context::new(&SHA512);
    context.update(&[number]);
    parts.iter().for_each(|part| context.update(part));
    let mut out = Zeroizing::new([0; HASH_LEN]);
    for (to, from) in out.iter_mut().zip(context.finish().as_ref()) {
        *to = *from;
    }
    out
}

fn session_secret(number: u8, encoded: &[u8], ciphertext: &[u8]) -> SharedSecret {
    hash(number, &[&*hash(3, &[encoded]), ciphertext])
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::encode::decode_small;
    use crate::small::tests::seeded;

    /// The first of the published known answers: secret key, ciphertext, shared secret.
    fn vectors() -> [(Vec<u8>, Vec<u8>, Vec<u8>); 2] {
        let hex = |text: &str| -> Vec<u8> {
            let digits = text.trim().as_bytes().chunks(2);
            digits.map(|pair| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap()).collect()
        };
        [
            (
                include_str!("../tests/vectors/0.sk.hex"),
                include_str!("../tests/vectors/0.ct.hex"),
                include_str!("../tests/vectors/0.ss.hex"),
            ),
            (
                include_str!("../tests/vectors/1.sk.hex"),
                include_str!("../tests/vectors/1.ct.hex"),
                include_str!("../tests/vectors/1.ss.hex"),
            ),
        ]
        .map(|(key, ciphertext, secret)| (hex(key), hex(ciphertext), hex(secret)))
    }

    #[test]
    fn published_keys_open_their_ciphertexts_and_come_out_of_their_secrets() {
        for (key, ciphertext, secret) in vectors() {
            let (f, rest) = key.split_at(SMALL_LEN);
            let (g_inverse, rest) = rest.split_at(SMALL_LEN);
            let (public, rest) = rest.split_at(ENCAPSULATION_KEY_LEN);
            let (f, g_inverse) = (decode_small(f), decode_small(g_inverse));
            // The inverse of an inverse is the polynomial that it was made of.
            let g = ring3::reciprocal(&g_inverse).unwrap();
            let own = DecapsulationKey::derive(f, g, g_inverse, rest[..SMALL_LEN].try_into().unwrap());
            assert_eq!(own.encapsulation_key().as_bytes().as_slice(), public);
            assert_eq!(own.decapsulate(&ciphertext).unwrap().as_slice(), secret);
            let read = EncapsulationKey::from_bytes(public).unwrap();
            assert_eq!(read.h, own.public.h);
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(16))]

        #[test]
        fn both_sides_have_the_same_secret_and_a_changed_ciphertext_gives_another(seed: u64, at in 0..CIPHERTEXT_LEN, bit in 0..8u8) {
            let mut random = seeded(seed);
            let own = DecapsulationKey::generate(&mut random);
            let public = EncapsulationKey::from_bytes(own.encapsulation_key().as_bytes()).unwrap();
            let (mut ciphertext, secret) = public.encapsulate(&mut random);
            prop_assert_eq!(&*own.decapsulate(&ciphertext).unwrap(), &*secret);
            ciphertext[at] ^= 1 << bit;
            let other = own.decapsulate(&ciphertext).unwrap();
            prop_assert_ne!(&*other, &*secret);
            prop_assert_eq!(&*own.decapsulate(&ciphertext).unwrap(), &*other);
            prop_assert!(own.decapsulate(&ciphertext[1..]).is_none());
            prop_assert!(EncapsulationKey::from_bytes(&public.as_bytes()[1..]).is_none());
        }
    }
}
