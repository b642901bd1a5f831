//! Where random bytes come from: a trait, so that tests can fix the seed.

/// A source of random bytes that an adversary cannot guess.
///
/// Key generation draws on the cryptographic library's own source; everything else (salts, padding, cookies)
/// draws on this.
pub trait RandomSource: Send {
    /// Fills `out`.
    fn fill(&mut self, out: &mut [u8]);
}

/// The operating system's random source, through the cryptographic library.
#[derive(Debug, Default, Clone, Copy)]
pub struct SystemRandom;

impl RandomSource for SystemRandom {
    fn fill(&mut self, out: &mut [u8]) {
        // The library only fails when the operating system has no randomness at all; carrying on with
        // predictable bytes would be far worse than stopping.
        if aws_lc_rs::rand::fill(out).is_err() {
            std::process::abort();
        }
    }
}

impl<R: RandomSource + ?Sized> RandomSource for Box<R> {
    fn fill(&mut self, out: &mut [u8]) {
        (**self).fill(out);
    }
}
