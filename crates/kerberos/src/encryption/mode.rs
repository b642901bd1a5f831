//! AES in the mode that steals ciphertext, so that a message keeps its length (RFC 3962 §5, NIST SP 800-38A addendum, CBC-CS3).

use aes::cipher::{Array, BlockCipherDecrypt, BlockCipherEncrypt, KeyInit};
use aes::{Aes128, Aes256};
use cts::{CbcCs3, Decrypt, Encrypt, KeyIvInit};

use crate::KerberosError;

/// One block of the cipher, in bytes.
pub(super) const BLOCK: usize = 16;

/// Encrypts in place. What is shorter than a block stays as it is; nothing here is.
pub(super) fn encrypt(key: &[u8], data: &mut [u8]) {
    let done = match key.len() {
        32 => encrypt_with::<Aes256>(key, data),
        _ => encrypt_with::<Aes128>(key, data),
    };
    debug_assert!(done.is_some(), "a key of 16 or 32 bytes, and at least a block");
}

fn encrypt_with<C>(key: &[u8], data: &mut [u8]) -> Option<()>
where
    C: BlockCipherEncrypt + KeyInit,
    CbcCs3<C>: KeyIvInit + Encrypt,
{
    // Of a single block nothing can be stolen, and the mode's own way there is another than Kerberos': it is encrypted as it is (RFC 3962 §5).
    match <&mut Array<u8, C::BlockSize>>::try_from(&mut *data) {
        Ok(one) => C::new_from_slice(key).ok()?.encrypt_block(one),
        Err(_) => CbcCs3::<C>::new_from_slices(key, &[0; BLOCK]).ok()?.encrypt(data).ok()?,
    }
    Some(())
}

/// Decrypts in place.
///
/// # Errors
/// It is shorter than a block.
pub(super) fn decrypt(key: &[u8], data: &mut [u8]) -> Result<(), KerberosError> {
    let done = match key.len() {
        32 => decrypt_with::<Aes256>(key, data),
        _ => decrypt_with::<Aes128>(key, data),
    };
    done.ok_or(KerberosError::Altered)
}

fn decrypt_with<C>(key: &[u8], data: &mut [u8]) -> Option<()>
where
    C: BlockCipherDecrypt + KeyInit,
    CbcCs3<C>: KeyIvInit + Decrypt,
{
    match <&mut Array<u8, C::BlockSize>>::try_from(&mut *data) {
        Ok(one) => C::new_from_slice(key).ok()?.decrypt_block(one),
        Err(_) => CbcCs3::<C>::new_from_slices(key, &[0; BLOCK]).ok()?.decrypt(data).ok()?,
    }
    Some(())
}
