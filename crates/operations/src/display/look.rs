//! What there is to say of the display here, for a check.

use lantern_link::{AuthorityFile, DisplayHere, DisplayName};

use super::{DisplayFailure, DisplayPlace};

/// A display that answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DisplaySeen {
    /// Its name.
    pub name: String,
    /// Whether there is a cookie for it.
    pub has_cookie: bool,
    /// Whether it can keep programs from seeing everything.
    pub has_security: bool,
}

/// The name that is set, or the display that was started last.
pub(super) fn name_of(place: &DisplayPlace) -> Result<DisplayName, DisplayFailure> {
    match place.name.as_deref().filter(|name| !name.is_empty()) {
        Some(name) => {
            DisplayName::parse(name).ok_or_else(|| DisplayFailure::BadName { name: name.to_owned() })
        }
        None if place.start.is_some() => {
            let noted = std::fs::read_to_string(&place.started).unwrap_or_default();
            DisplayName::parse(noted.trim()).ok_or(DisplayFailure::NoName)
        }
        None => Err(DisplayFailure::NoName),
    }
}

/// A display with what it wants to be shown.
pub(super) fn here(name: &DisplayName, authority: &AuthorityFile) -> Result<DisplayHere, DisplayFailure> {
    Ok(DisplayHere { name: name.clone(), authorization: authority.find(name)? })
}

/// Looks at the display as it is; nothing is started.
///
/// # Errors
/// [`DisplayFailure`].
pub async fn look(place: &DisplayPlace) -> Result<DisplaySeen, DisplayFailure> {
    let name = name_of(place)?;
    look_at(&name, &AuthorityFile::new(place.authority.clone())).await
}

pub(super) async fn look_at(
    name: &DisplayName,
    authority: &AuthorityFile,
) -> Result<DisplaySeen, DisplayFailure> {
    let here = here(name, authority)?;
    let has_cookie = here.authorization.is_some();
    let answer = here.look().await?;
    Ok(DisplaySeen { name: name.to_string(), has_cookie, has_security: answer.has_security })
}
