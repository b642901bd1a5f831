//! A one-off becomes a machine of the book, with what it has proved to be.

use lantern_book::{
    BookError, Destination, Field, FieldValue, Hints, Home, MachineBook, Pasted, Settings, TrustStore, Uses,
    check_name_of,
};

use crate::Target;

/// Why a machine cannot be kept.
#[derive(Debug, thiserror::Error)]
pub enum KeepError {
    /// The book, or the trust store.
    #[error(transparent)]
    Book(#[from] BookError),
    /// The name is another machine's in the trust store.
    #[error("the trust store knows another machine as {0}")]
    KnownAsAnother(String),
}

/// Whether a name can be given to a new machine.
///
/// # Errors
/// A name that no machine can have, or one that has it.
pub fn check_free(book: &MachineBook, name: &str) -> Result<(), BookError> {
    check_name_of("machine name", name)?;
    match book.get(name) {
        Ok(_) => Err(BookError::Exists { what: "machine", name: name.to_owned() }),
        Err(_) => Ok(()),
    }
}

/// The machine of the book that is at this address and port.
pub fn kept_as(book: &MachineBook, target: &Target) -> Option<String> {
    let is_there = |name: &&str| {
        book.effective(name).is_ok_and(|effective| {
            effective.port() == target.port
                && effective.list(Field::Address).iter().any(|address| target.addresses.contains(address))
        })
    };
    book.iter().map(|(name, _)| name).find(is_there).map(str::to_owned)
}

/// A name for a machine: what a text calls it, else how its host is called, else its key file, else its address.
pub fn suggest_name(book: &MachineBook, target: &Target, pasted: Option<&Pasted>) -> String {
    let plain = |text: &str| {
        let word = |c: char| if c.is_ascii_alphanumeric() || "-_".contains(c) { c } else { '-' };
        let text: String = text.chars().map(word).take(48).collect();
        text.trim_matches(|c: char| !c.is_ascii_alphanumeric()).to_ascii_lowercase()
    };
    let address = target.addresses.first().map_or("", String::as_str);
    let host = match address.parse::<std::net::IpAddr>() {
        Ok(_) => "",
        Err(_) => address.split('.').next().unwrap_or_default(),
    };
    let said = pasted.and_then(|pasted| pasted.name.as_deref()).unwrap_or_default();
    let key = pasted.and_then(|pasted| pasted.key_file.as_deref()).unwrap_or_default();
    let key = std::path::Path::new(key).file_stem().map(|stem| stem.to_string_lossy().into_owned());
    let words = [plain(said), plain(host), plain(&key.unwrap_or_default()), plain(address), "machine".into()];
    let wanted = words.into_iter().find(|word| !word.is_empty()).unwrap_or_default();
    let numbered = (2..).map(|number| format!("{wanted}-{number}"));
    let mut names = std::iter::once(wanted.clone()).chain(numbered);
    names.find(|name| book.get(name).is_err()).unwrap_or(wanted)
}

/// What the book is to say of a one-off: what was typed or pasted, and what the options said. The key is for the caller to add.
///
/// # Errors
/// A value that no machine can have.
pub fn settings_of(
    typed: &str,
    pasted: Option<&Pasted>,
    user: Option<&str>,
    gateways: &[String],
    proxy: Option<&str>,
) -> Result<Settings, BookError> {
    let mut settings = match (pasted, Destination::parse(typed)?) {
        (Some(pasted), _) => pasted.settings()?,
        (None, Destination::OneOff(_)) => Pasted::parse(typed)?.settings()?,
        (None, Destination::Named(name)) => Settings::at(&name)?,
    };
    if let Some(user) = user {
        settings = settings.with(Field::User, FieldValue::Text(user.to_owned()))?;
    }
    if !gateways.is_empty() {
        settings = settings.with(Field::Gateway, FieldValue::List(gateways.to_vec()))?;
    }
    if let Some(proxy) = proxy {
        settings = settings.with_text(Field::Proxy, proxy)?;
    }
    Ok(settings)
}

/// Adds the machine under this name. What it has proved to be goes with it: it is no stranger when it is met by its name.
///
/// # Errors
/// The book or the trust store; a name that is another machine's there.
pub fn keep(home: &Home, name: &str, settings: &Settings, known_as: &str) -> Result<(), KeepError> {
    check_free(&MachineBook::load(home)?, name)?;
    let trust = TrustStore::load(home)?;
    if trust.has(name) && trust.get(name)? != trust.get(known_as)? {
        return Err(KeepError::KnownAsAnother(name.to_owned()));
    }
    // Known under both names before the book has the new one: wherever this is stopped, the machine becomes no stranger.
    TrustStore::rename(home, &[(known_as, name)], true)?;
    MachineBook::add(home, name, settings)?;
    TrustStore::rename(home, &[(known_as, name)], false)?;
    Hints::of(home).rename(known_as, name)?;
    Uses::of(home).rename(known_as, name)?;
    Ok(())
}
