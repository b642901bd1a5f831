//! Which tunnels are to be opened.

use std::collections::BTreeMap;

use lantern_book::{Tunnel, TunnelEnd, TunnelKind};

/// A tunnel that is to be opened.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TunnelPlan {
    /// Its name.
    pub name: String,
    /// What it is.
    pub tunnel: Tunnel,
}

/// Why tunnels cannot be opened as they stand.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum PlanError {
    /// The machine has no tunnel of this name.
    #[error("{machine} has no tunnel {name}")]
    Unknown {
        /// The machine.
        machine: String,
        /// The name.
        name: String,
        /// Those that it has.
        known: Vec<String>,
    },
    /// The machine has none at all.
    #[error("the book has no tunnels for {machine}")]
    None {
        /// The machine.
        machine: String,
    },
    /// It would listen for others, and nothing says that it may.
    #[error("the tunnel {name} listens at {listen}, for more than {whom}")]
    Wide {
        /// Its name.
        name: String,
        /// Where.
        listen: TunnelEnd,
        /// Whom it would listen for otherwise.
        whom: &'static str,
    },
    /// The book has a form that cannot be read.
    #[error("the tunnel {name} {rule}")]
    Form {
        /// Its name.
        name: String,
        /// What it must be.
        rule: &'static str,
    },
}

/// The tunnels of a machine by these names, all of them when there are none; `wide`: whether those that listen for others may, whatever the book says.
///
/// # Errors
/// [`PlanError`].
pub fn named_plans(
    machine: &str,
    tunnels: &BTreeMap<String, String>,
    names: &[String],
    wide: bool,
) -> Result<Vec<TunnelPlan>, PlanError> {
    if names.is_empty() && tunnels.is_empty() {
        return Err(PlanError::None { machine: machine.to_owned() });
    }
    let known = || tunnels.keys().cloned().collect();
    let unknown = |name: &String| PlanError::Unknown {
        machine: machine.to_owned(),
        name: name.clone(),
        known: known(),
    };
    let mut wanted: Vec<(&String, &String)> = Vec::new();
    match names.is_empty() {
        true => wanted.extend(tunnels),
        false => {
            for name in names {
                let found = tunnels.get_key_value(name).ok_or_else(|| unknown(name))?;
                if !wanted.contains(&found) {
                    wanted.push(found);
                }
            }
        }
    }
    let plan = |(name, form): (&String, &String)| {
        let tunnel = Tunnel::parse(form).map_err(|rule| PlanError::Form { name: name.clone(), rule })?;
        TunnelPlan { name: name.clone(), tunnel }.checked(wide)
    };
    wanted.into_iter().map(plan).collect()
}

impl TunnelPlan {
    /// It, where it listens for nobody else than it may.
    ///
    /// # Errors
    /// [`PlanError::Wide`].
    pub fn checked(self, wide: bool) -> Result<Self, PlanError> {
        if wide || self.tunnel.wide || self.tunnel.listen.is_loopback() {
            return Ok(self);
        }
        let whom = match self.tunnel.kind {
            TunnelKind::Remote => "programs on that machine",
            TunnelKind::Local | TunnelKind::Dynamic => "programs on this computer",
        };
        Err(PlanError::Wide { name: self.name, listen: self.tunnel.listen, whom })
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that cannot go on says so by panicking.
mod tests {
    use super::*;

    #[test]
    fn tunnels_are_found_by_name_and_none_listens_for_others_unless_that_is_said() {
        let book: BTreeMap<String, String> = [
            ("console", "local 8443 to 127.0.0.1:443"),
            ("socks", "dynamic 0.0.0.0:1080"),
            ("web", "remote 0.0.0.0:80 to 127.0.0.1:8080 wide"),
        ]
        .map(|(name, form)| (name.to_owned(), form.to_owned()))
        .into();
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let plans = |wanted: &[&str], wide| named_plans("lamp-01", &book, &names(wanted), wide);
        let found = |wanted: &[&str]| {
            plans(wanted, true).unwrap().into_iter().map(|plan| plan.name).collect::<Vec<_>>()
        };
        assert_eq!(found(&[]), ["console", "socks", "web"]);
        assert_eq!(found(&["web", "console", "web"]), ["web", "console"]);
        assert!(plans(&["console", "web"], false).is_ok());
        assert!(matches!(plans(&[], false), Err(PlanError::Wide { name, .. }) if name == "socks"));
        assert!(
            matches!(plans(&["consle"], false), Err(PlanError::Unknown { known, .. }) if known.len() == 3)
        );
        let none = named_plans("lamp-02", &BTreeMap::new(), &[], false);
        assert_eq!(none, Err(PlanError::None { machine: "lamp-02".into() }));
    }
}
