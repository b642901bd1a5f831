//! Files in which tickets are kept: version 3 and 4 of the form that the free implementations of Kerberos share, described in their documentation.

use zeroize::Zeroizing;

use crate::{Credential, EncryptionType, KerberosError, Key, Principal};

/// Most tickets that are read of a file.
const MAX_TICKETS: usize = 4096;
/// Most parts of a name, addresses of a ticket, and data of an authorization: a handful is usual.
const MAX_LIST: u32 = 1024;
/// The realm of entries that are no tickets but settings.
const SETTINGS: &str = "X-CACHECONF:";

/// Where tickets are, by the name of a cache.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CacheName {
    /// In this file.
    File(String),
    /// In a folder, whose file `primary` names the one that is used.
    Folder(String),
    /// With a program that keeps them, by this name; empty: the one that is used.
    Manager(String),
    /// In a place that is not read here: its kind.
    Elsewhere(String),
}

impl CacheName {
    /// Reads a name like `FILE:/tmp/krb5cc_1000`. One without a kind is a file.
    pub fn parse(name: &str) -> Self {
        match name.split_once(':') {
            Some(("FILE" | "WRFILE", path)) => Self::File(path.to_owned()),
            // A second colon names one of the folder's files.
            Some(("DIR", path)) => match path.strip_prefix(':') {
                Some(file) => Self::File(file.to_owned()),
                None => Self::Folder(path.to_owned()),
            },
            Some(("KCM", name)) => Self::Manager(name.to_owned()),
            Some((kind, _)) if !kind.contains('/') && !kind.is_empty() => Self::Elsewhere(kind.to_owned()),
            _ => Self::File(name.to_owned()),
        }
    }
}

/// The tickets of a user.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cache {
    /// Whose they are.
    pub owner: Principal,
    /// How far the clock of the centre was ahead when it gave them, in seconds.
    pub clock_off: i64,
    /// The tickets whose encryption types are spoken here.
    pub tickets: Vec<Credential>,
    /// The encryption types of others.
    pub others: Vec<i32>,
}

struct Reader<'a>(&'a [u8]);

const SHORT: KerberosError = KerberosError::Cache("it ends in the middle of an entry");

impl<'a> Reader<'a> {
    fn take(&mut self, len: usize) -> Result<&'a [u8], KerberosError> {
        let (taken, rest) = self.0.split_at_checked(len).ok_or(SHORT)?;
        self.0 = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], KerberosError> {
        self.take(N)?.try_into().map_err(|_| SHORT)
    }

    fn long(&mut self) -> Result<u32, KerberosError> {
        Ok(u32::from_be_bytes(self.array()?))
    }

    fn short(&mut self) -> Result<u16, KerberosError> {
        Ok(u16::from_be_bytes(self.array()?))
    }

    fn data(&mut self) -> Result<&'a [u8], KerberosError> {
        let len = self.long()?;
        self.take(usize::try_from(len).map_err(|_| SHORT)?)
    }

    fn text(&mut self) -> Result<String, KerberosError> {
        let text =
            str::from_utf8(self.data()?).map_err(|_| KerberosError::Cache("a name in it is not UTF-8"))?;
        Ok(text.to_owned())
    }

    fn principal(&mut self) -> Result<Principal, KerberosError> {
        let kind = i32::from_be_bytes(self.array()?);
        let count = self.long()?;
        if count > MAX_LIST {
            return Err(KerberosError::Cache("a name in it has more parts than a name has"));
        }
        let realm = self.text()?;
        let parts = (0..count).map(|_| self.text()).collect::<Result<_, _>>()?;
        Ok(Principal { kind, parts, realm })
    }

    /// Passes over a list of numbered data.
    fn skip_list(&mut self) -> Result<(), KerberosError> {
        for _ in 0..self.long()?.min(MAX_LIST) {
            self.short()?;
            self.data()?;
        }
        Ok(())
    }
}

impl Cache {
    /// Reads a file.
    ///
    /// # Errors
    /// It is in no known form, or ends early.
    pub fn decode(bytes: &[u8]) -> Result<Self, KerberosError> {
        let mut reader = Reader(bytes);
        let version = match reader.array::<2>()? {
            [5, version @ (3 | 4)] => version,
            [5, 1 | 2] => {
                return Err(KerberosError::Cache("its form is an old one that depends on the machine"));
            }
            _ => return Err(KerberosError::Cache("it does not begin like a ticket cache")),
        };
        let mut clock_off = 0;
        if version == 4 {
            let len = reader.short()?;
            let mut head = Reader(reader.take(len.into())?);
            while !head.0.is_empty() {
                let (tag, len) = (head.short()?, head.short()?);
                let mut field = Reader(head.take(len.into())?);
                if tag == 1 {
                    clock_off = i32::from_be_bytes(field.array()?).into();
                }
            }
        }
        let owner = reader.principal()?;
        let mut cache = Self { owner, clock_off, tickets: Vec::new(), others: Vec::new() };
        while !reader.0.is_empty() && cache.tickets.len() + cache.others.len() < MAX_TICKETS {
            cache.entry(&mut reader, version)?;
        }
        Ok(cache)
    }

    /// Reads what a program that keeps tickets tells: the owner, and tickets, each in the form that version 4 of files has.
    ///
    /// # Errors
    /// One of them ends early.
    pub fn of_parts<'p>(
        owner: &[u8],
        tickets: impl IntoIterator<Item = &'p [u8]>,
    ) -> Result<Self, KerberosError> {
        let owner = Reader(owner).principal()?;
        let mut cache = Self { owner, clock_off: 0, tickets: Vec::new(), others: Vec::new() };
        for ticket in tickets.into_iter().take(MAX_TICKETS) {
            cache.entry(&mut Reader(ticket), 4)?;
        }
        Ok(cache)
    }

    fn entry(&mut self, reader: &mut Reader<'_>, version: u8) -> Result<(), KerberosError> {
        let (client, server) = (reader.principal()?, reader.principal()?);
        let kind = reader.short()?;
        if version == 3 {
            reader.short()?;
        }
        let key = Zeroizing::new(reader.data()?.to_vec());
        let [_, starts, ends, renew_till] = [reader.long()?, reader.long()?, reader.long()?, reader.long()?];
        reader.take(1)?;
        let flags = reader.long()?;
        reader.skip_list()?;
        reader.skip_list()?;
        let ticket = reader.data()?.to_vec();
        reader.data()?;
        if server.realm == SETTINGS {
            return Ok(());
        }
        let number = i32::from(kind);
        let Some(kind) = EncryptionType::from_number(number) else {
            self.others.push(number);
            return Ok(());
        };
        let key = Key::new(kind, key)?;
        // Times are 32 bits without a sign, for the years until 2106.
        let (starts, ends, renew_till) = (starts.into(), ends.into(), renew_till.into());
        self.tickets.push(Credential { client, server, key, ticket, starts, ends, flags, renew_till });
        Ok(())
    }

    /// The ticket for this service that serves at this moment, in seconds since 1970.
    pub fn ticket(&self, service: &Principal, now: i64) -> Option<&Credential> {
        let mut found = self.tickets.iter().filter(|ticket| ticket.server.is(service) && ticket.serves(now));
        found.next_back()
    }

    /// The ticket of the login, at this moment; of the owner's own realm.
    pub fn login(&self, now: i64) -> Option<&Credential> {
        self.ticket(&Principal::tickets(&self.owner.realm, &self.owner.realm), now)
    }

    /// Until when the ticket of the login served, where it is there and has ended, in seconds since 1970.
    pub fn ended(&self, now: i64) -> Option<i64> {
        let login = Principal::tickets(&self.owner.realm, &self.owner.realm);
        let all = self.tickets.iter().filter(|ticket| ticket.server.is(&login));
        all.map(|ticket| ticket.ends).max().filter(|ends| *ends <= now)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn names_of_caches_are_told_apart() {
        for (name, is) in [
            ("FILE:/tmp/a", CacheName::File("/tmp/a".into())),
            ("/tmp/a", CacheName::File("/tmp/a".into())),
            ("/tmp/a:b", CacheName::File("/tmp/a:b".into())),
            ("DIR:/run/a", CacheName::Folder("/run/a".into())),
            ("DIR::/run/a/tkt", CacheName::File("/run/a/tkt".into())),
            ("KCM:", CacheName::Manager(String::new())),
            ("KCM:1000:7", CacheName::Manager("1000:7".into())),
            ("KEYRING:persistent:1000", CacheName::Elsewhere("KEYRING".into())),
            ("API:1", CacheName::Elsewhere("API".into())),
        ] {
            assert_eq!(CacheName::parse(name), is, "{name}");
        }
    }

    #[test]
    fn lengths_beyond_the_file_allocate_nothing() {
        for tail in [&[0xff; 4][..], &[0, 0, 0, 1, 0xff, 0xff, 0xff, 0xff], &[0, 0, 0, 1, 0, 0, 0, 1]] {
            let file = [&[5, 3][..], tail].concat();
            assert!(matches!(Cache::decode(&file), Err(KerberosError::Cache(_))));
        }
    }

    proptest! {
        #[test]
        fn nothing_makes_it_panic(version in 0u8..6, bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
            let _ = Cache::decode(&[&[5, version][..], &bytes].concat());
            let _ = Cache::of_parts(&bytes, [&bytes[..], &[]]);
        }
    }
}
