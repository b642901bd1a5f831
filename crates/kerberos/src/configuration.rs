//! What the system says of realms: the lines of its configuration of Kerberos that name them and their centres. The form is the one that the free
//! implementations share.

use std::collections::BTreeMap;

/// Other files, in their place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Include<'a> {
    /// This one.
    File(&'a str),
    /// All of a folder whose names are plain.
    Folder(&'a str),
}

/// Files that may be included within each other.
const MAX_DEPTH: usize = 8;
/// Most lines that are read in all.
const MAX_LINES: usize = 100_000;

/// Realms, their centres, and which of them a machine is in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Configuration {
    /// The realm of a user who names none.
    pub default_realm: Option<String>,
    /// Where tickets are kept.
    pub cache: Option<String>,
    /// The socket of the program that keeps tickets.
    pub manager: Option<String>,
    /// Whether centres are looked up in the names' service.
    pub by_dns: Option<bool>,
    centres: BTreeMap<String, Vec<String>>,
    domains: BTreeMap<String, String>,
    lines: usize,
}

/// Where a line is.
#[derive(Default)]
struct Place {
    section: String,
    /// Names of the braces around it.
    within: Vec<String>,
}

impl Configuration {
    /// Reads a file; `load` gives the texts of others that it includes. What is said first holds.
    pub fn read(&mut self, text: &str, load: &mut dyn FnMut(&Include<'_>) -> Vec<String>) {
        self.read_at(text, load, 0);
    }

    fn read_at(&mut self, text: &str, load: &mut dyn FnMut(&Include<'_>) -> Vec<String>, depth: usize) {
        let mut place = Place::default();
        for line in text.lines().map(str::trim) {
            self.lines += 1;
            if self.lines > MAX_LINES {
                return;
            }
            if line.is_empty() || line.starts_with(['#', ';']) {
                continue;
            }
            let include = match line.split_once(char::is_whitespace).map(|(word, rest)| (word, rest.trim())) {
                Some(("include", path)) => Some(Include::File(path)),
                Some(("includedir", path)) => Some(Include::Folder(path)),
                _ => None,
            };
            match include {
                Some(_) if depth == MAX_DEPTH => {}
                Some(include) => {
                    for text in load(&include) {
                        self.read_at(&text, load, depth + 1);
                    }
                }
                None => self.line(line, &mut place),
            }
        }
    }

    fn line(&mut self, line: &str, place: &mut Place) {
        if let Some(section) = line.strip_prefix('[') {
            place.section = section.split(']').next().unwrap_or_default().to_ascii_lowercase();
            place.within.clear();
        } else if line.starts_with('}') {
            place.within.pop();
        } else if let Some((name, value)) = line.split_once('=') {
            let name = name.trim().trim_end_matches('*');
            match value.trim() {
                "{" => place.within.push(name.to_owned()),
                value => self.value(place, name, value.trim_matches('"')),
            }
        }
    }

    fn value(&mut self, place: &Place, name: &str, value: &str) {
        let value = value.to_owned();
        match (place.section.as_str(), place.within.as_slice(), name) {
            ("libdefaults", [], "default_realm") => drop(self.default_realm.get_or_insert(value)),
            ("libdefaults", [], "default_ccache_name") => drop(self.cache.get_or_insert(value)),
            ("libdefaults", [], "kcm_socket") => drop(self.manager.get_or_insert(value)),
            ("libdefaults", [], "dns_lookup_kdc") => {
                let is_on =
                    matches!(value.to_ascii_lowercase().as_str(), "true" | "yes" | "y" | "t" | "1" | "on");
                self.by_dns.get_or_insert(is_on);
            }
            ("realms", [realm], "kdc") => self.centres.entry(realm.clone()).or_default().push(value),
            ("domain_realm", [], domain) => drop(self.domains.entry(domain.to_lowercase()).or_insert(value)),
            _ => {}
        }
    }

    /// The centres of a realm as they are written: a name or an address, perhaps with a port.
    pub fn centres(&self, realm: &str) -> &[String] {
        self.centres.get(realm).map(Vec::as_slice).unwrap_or_default()
    }

    /// The realm of a machine by its name, where that is said: of itself, or of a domain that it is in.
    pub fn realm_of(&self, host: &str) -> Option<&str> {
        let host = host.to_lowercase();
        if let Some(realm) = self.domains.get(&host) {
            return Some(realm);
        }
        let mut at = host.as_str();
        while let Some(dot) = at.find('.') {
            let domain = at.get(dot..)?;
            let bare = domain.get(1..)?;
            if let Some(realm) = self.domains.get(domain).or_else(|| self.domains.get(bare)) {
                return Some(realm);
            }
            at = bare;
        }
        None
    }

    /// A realm that the system knows, by its name or by the first part of it, however it is written: what Windows calls a domain.
    pub fn realm_named(&self, domain: &str) -> Option<&str> {
        let known = self.default_realm.iter().chain(self.centres.keys()).map(String::as_str);
        let is_it = |realm: &&str| {
            let first = realm.split('.').next().unwrap_or(realm);
            realm.eq_ignore_ascii_case(domain) || first.eq_ignore_ascii_case(domain)
        };
        let mut fitting = known.filter(is_it);
        let first = fitting.next()?;
        // Two that fit say nothing.
        fitting.all(|other| other == first).then_some(first)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const FILE: &str = "
# a comment
[libdefaults]
    default_realm = COAST.EXAMPLE
    dns_lookup_kdc = no
include /etc/more
[realms]
  COAST.EXAMPLE = {
    kdc = tide-gauge.coast.example
    kdc = 192.0.2.7:8888
    admin_server = elsewhere
    auth_to_local_names = {
       a = b
    }
    kdc = last
  }
  INLAND.EXAMPLE = {
    kdc = 192.0.2.9
  }
[domain_realm]
  .coast.example = COAST.EXAMPLE
  inland.example = INLAND.EXAMPLE
  odd.coast.example = INLAND.EXAMPLE
";

    #[test]
    fn realms_and_their_centres_are_read() {
        let mut read = Configuration::default();
        let more = "[libdefaults]\ndefault_realm = OTHER\ndefault_ccache_name = \"DIR:/run/%{uid}\"\ninclude /etc/more\n";
        let mut loaded = 0;
        read.read(FILE, &mut |include| {
            loaded += 1;
            assert_eq!(*include, Include::File("/etc/more"));
            vec![more.to_owned()]
        });
        // One that includes itself ends.
        assert_eq!(loaded, MAX_DEPTH);
        assert_eq!(read.default_realm.as_deref(), Some("COAST.EXAMPLE"));
        assert_eq!((read.by_dns, read.cache.as_deref()), (Some(false), Some("DIR:/run/%{uid}")));
        assert_eq!(read.centres("COAST.EXAMPLE"), ["tide-gauge.coast.example", "192.0.2.7:8888", "last"]);
        assert!(read.centres("coast.example").is_empty());
        for (host, realm) in [
            ("lamp-01.Coast.Example", Some("COAST.EXAMPLE")),
            ("odd.coast.example", Some("INLAND.EXAMPLE")),
            ("a.b.inland.example", Some("INLAND.EXAMPLE")),
            ("inland.example", Some("INLAND.EXAMPLE")),
            ("coast.example", None),
            ("lamp-01", None),
        ] {
            assert_eq!(read.realm_of(host), realm, "{host}");
        }
        assert_eq!(read.realm_named("coast"), Some("COAST.EXAMPLE"));
        assert_eq!(read.realm_named("inland.example"), Some("INLAND.EXAMPLE"));
        assert_eq!(read.realm_named("CHART-ROOM"), None);
    }

    proptest! {
        #[test]
        fn nothing_makes_it_panic(text in "([\\[\\]{}=*#;a-c .\n]|include |realms|kdc){0,80}") {
            let mut read = Configuration::default();
            read.read(&text, &mut |_| vec![text.clone()]);
            let _ = (read.realm_of(&text), read.realm_named(&text), read.centres(&text));
        }
    }
}
