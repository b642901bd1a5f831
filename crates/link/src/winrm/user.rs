//! The forms of a user of Windows.

use lantern_keys::SecretString;
use lantern_winrm::ntlm::NtlmUser;

/// Whose user it is, as it was typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UserForm<'a> {
    /// `DOMAIN\user`: of that domain, or of the machine of that name.
    OfDomain(&'a str, &'a str),
    /// `.\user`: of the machine itself.
    OfMachine(&'a str),
    /// `user@realm`: as the domain knows it.
    OfRealm(&'a str, &'a str),
    /// Only a name: the machine looks among its own first.
    Bare(&'a str),
}

impl<'a> UserForm<'a> {
    /// Tells the form of a user.
    pub fn of(user: &'a str) -> Self {
        match user.split_once('\\') {
            Some((".", name)) => Self::OfMachine(name),
            Some((domain, name)) => Self::OfDomain(domain, name),
            None => match user.rsplit_once('@') {
                Some((name, realm)) if !realm.is_empty() => Self::OfRealm(name, realm),
                _ => Self::Bare(user),
            },
        }
    }

    /// The user for NTLM.
    pub(super) fn with_password(&self, password: SecretString) -> NtlmUser {
        let (domain, name) = match self {
            Self::OfDomain(domain, name) => (*domain, (*name).to_owned()),
            Self::OfMachine(name) => (".", (*name).to_owned()),
            // The whole is the name, and the domain is left to the machine (MS-NLMP 3.1.1.1, user principal names).
            Self::OfRealm(name, realm) => ("", format!("{name}@{realm}")),
            Self::Bare(name) => ("", (*name).to_owned()),
        };
        NtlmUser { name, domain: domain.to_owned(), password }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms_are_told_apart() {
        assert_eq!(UserForm::of(r"COAST\keeper"), UserForm::OfDomain("COAST", "keeper"));
        assert_eq!(UserForm::of(r".\keeper"), UserForm::OfMachine("keeper"));
        assert_eq!(UserForm::of("keeper@coast.example"), UserForm::OfRealm("keeper", "coast.example"));
        assert_eq!(UserForm::of("keeper"), UserForm::Bare("keeper"));
        assert_eq!(UserForm::of("keeper@"), UserForm::Bare("keeper@"));
    }
}
