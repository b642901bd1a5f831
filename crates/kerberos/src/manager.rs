//! What is said to a program that keeps tickets: version 2 of the protocol that the free implementations share, in which everything is big-endian.

use crate::KerberosError;

const VERSION: [u8; 2] = [2, 0];
/// The length of the name of a ticket, in bytes.
const ID: usize = 16;

/// A question to the program.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ManagerRequest<'a> {
    /// Which cache is used?
    DefaultCache,
    /// Whose is this cache?
    Owner(&'a str),
    /// Which tickets are in it?
    Tickets(&'a str),
    /// What is this ticket?
    Ticket(&'a str, [u8; ID]),
}

impl ManagerRequest<'_> {
    /// The question as it is sent, behind its length.
    pub fn encode(&self) -> Vec<u8> {
        let (number, name, more): (u16, _, &[u8]) = match self {
            Self::DefaultCache => (20, None, &[]),
            Self::Owner(name) => (8, Some(name), &[]),
            Self::Tickets(name) => (9, Some(name), &[]),
            Self::Ticket(name, id) => (10, Some(name), id),
        };
        let mut bytes = VERSION.to_vec();
        bytes.extend(number.to_be_bytes());
        if let Some(name) = name {
            bytes.extend(name.bytes());
            bytes.push(0);
        }
        bytes.extend_from_slice(more);
        let len = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
        [&len.to_be_bytes()[..], &bytes].concat()
    }
}

/// The name of a cache in an answer.
///
/// # Errors
/// There is none.
pub fn cache_name(answer: &[u8]) -> Result<String, KerberosError> {
    let name = answer.strip_suffix(&[0]).unwrap_or(answer);
    let text = str::from_utf8(name).ok().filter(|text| !text.contains('\0'));
    Ok(text.ok_or(KerberosError::Cache("the program that keeps it names none"))?.to_owned())
}

/// The names of tickets in an answer.
pub fn ticket_ids(answer: &[u8]) -> Vec<[u8; ID]> {
    answer.as_chunks::<ID>().0.to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn questions_stand_behind_their_length() {
        assert_eq!(ManagerRequest::DefaultCache.encode(), [0, 0, 0, 4, 2, 0, 0, 20]);
        let owner = ManagerRequest::Owner("7").encode();
        assert_eq!(owner, [0, 0, 0, 6, 2, 0, 0, 8, b'7', 0]);
        assert_eq!(ManagerRequest::Ticket("7", [3; 16]).encode().len(), 26);
        assert_eq!(cache_name(b"1000:7\0"), Ok("1000:7".to_owned()));
        assert!(cache_name(b"a\0b\0").is_err() && cache_name(&[0xff]).is_err());
        assert_eq!(ticket_ids(&[1; 40]).len(), 2);
    }
}
