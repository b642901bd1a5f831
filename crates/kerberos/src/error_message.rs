//! The message of a refusal (RFC 4120 §5.9.1).

use der::Decode;

use crate::asn1::open;
use crate::messages::{ErrorMessage, PaData, kind, list};
use crate::{KerberosError, Refusal, RefusalKind};

impl Refusal {
    /// Reads one.
    ///
    /// # Errors
    /// It is none, or damaged.
    pub fn decode(bytes: &[u8]) -> Result<Self, KerberosError> {
        let message: ErrorMessage = open(kind::ERROR, bytes)?;
        Ok(Self {
            kind: RefusalKind::of(message.code),
            code: message.code,
            text: message.text.map(|text| text.0),
            time_there: message.stime.0,
            data: message.data.map(|data| data.into_bytes().to_vec()).unwrap_or_default(),
        })
    }

    /// What the centre wants before it gives a ticket.
    pub(crate) fn wanted(&self) -> Result<Vec<PaData>, KerberosError> {
        if let Ok(one) = PaData::from_der(&self.data) {
            return Ok(vec![one]);
        }
        list(&self.data)
    }
}
