//! The proof that a key logs in, left on the machine for a script that is pasted on its console.

use lantern_keys::{Fingerprint, RandomSource, SecretString};
use lantern_link::{LinkError, capture};

use crate::OperationError;
use crate::login::Way;

/// Keeps standard input in the user's home, closed to others, where the script looks for it and takes it away.
const LEAVE: &str =
    "sh -c 'umask 077; cd || exit 91; rm -f .lantern-key-proof; cat > .lantern-key-proof && echo it is kept'";

/// Why no proof was left.
#[derive(Debug, thiserror::Error)]
pub enum LeaveProofError {
    /// No key logs in, or the way there.
    #[error(transparent)]
    Operation(#[from] OperationError),
    /// The machine runs something else, or could not write.
    #[error("the login by key works, and {machine} could not keep its proof in the home folder of {user}")]
    NotKept {
        /// The machine.
        machine: String,
        /// As whom.
        user: String,
    },
}

impl From<LinkError> for LeaveProofError {
    fn from(error: LinkError) -> Self {
        Self::Operation(error.into())
    }
}

/// Logs in by key and by nothing else, and leaves a random text there; its SHA-256 in hexadecimal, which is all that a script needs to know it.
///
/// # Errors
/// See [`LeaveProofError`].
pub async fn leave_proof(way: Way<'_>, random: &mut dyn RandomSource) -> Result<String, LeaveProofError> {
    let text = random_word(random);
    let text = text.expose_secret();
    let trunk = way.log_in(way.target.keys(way.options), true).await?;
    let captured = capture(&trunk, LEAVE, text.as_bytes()).await?;
    trunk.close().await;
    if captured.status != Some(0) || captured.out != b"it is kept\n" {
        let user = way.target.user(way.options).map_err(OperationError::from)?;
        return Err(LeaveProofError::NotKept { machine: way.target.name.clone(), user });
    }
    Ok(hex(Fingerprint::of_blob(text.as_bytes()).as_bytes()))
}

/// Sixteen random bytes in hexadecimal.
pub fn random_word(random: &mut dyn RandomSource) -> SecretString {
    let mut bytes = [0; 16];
    random.fill(&mut bytes);
    SecretString::new(hex(&bytes))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}
