//! CBC without padding, for any block cipher of the containers.

use cbc::cipher::block_padding::NoPadding;
use cbc::cipher::{
    BlockCipherDecrypt, BlockCipherEncrypt, BlockModeDecrypt, BlockModeEncrypt, KeyInit, KeyIvInit,
};

use crate::KeyError;

/// Encrypts whole blocks in place.
pub(super) fn encrypt<C: BlockCipherEncrypt + KeyInit>(
    key: &[u8],
    iv: &[u8],
    data: &mut [u8],
) -> Result<(), KeyError> {
    let refused = || KeyError::Refused("encrypt in CBC mode");
    let cipher = cbc::Encryptor::<C>::new_from_slices(key, iv).map_err(|_| refused())?;
    let len = data.len();
    cipher.encrypt_padded::<NoPadding>(data, len).map_err(|_| refused())?;
    Ok(())
}

/// Decrypts whole blocks in place.
pub(super) fn decrypt<C: BlockCipherDecrypt + KeyInit>(
    key: &[u8],
    iv: &[u8],
    data: &mut [u8],
) -> Result<(), KeyError> {
    let whole = || KeyError::Malformed("the encrypted part is not a whole number of blocks");
    let cipher = cbc::Decryptor::<C>::new_from_slices(key, iv)
        .map_err(|_| KeyError::Refused("decrypt in CBC mode"))?;
    cipher.decrypt_padded::<NoPadding>(data).map_err(|_| whole())?;
    Ok(())
}
