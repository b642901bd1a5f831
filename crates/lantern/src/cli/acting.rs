//! Whom something is done as on the machine.

use clap::Args;
use lantern_book::{Field, FieldValue};

use crate::cli::secret_source::SecretSource;

/// Whom something is done as.
#[derive(Debug, Clone, Default, Args)]
pub(crate) struct ActingArgs {
    /// As this user of the machine, through its own program for that
    #[arg(long = "as", value_name = "USER", value_parser = other_user)]
    pub(crate) other: Option<String>,
    /// Read the password for --as from here: fd:N, file:PATH or command:LINE
    #[arg(long, value_name = "SOURCE")]
    pub(crate) as_password_from: Option<SecretSource>,
}

fn other_user(text: &str) -> Result<String, String> {
    FieldValue::parse(Field::As, text).map(|_| text.to_owned()).map_err(|error| error.to_string())
}
