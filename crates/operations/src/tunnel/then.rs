//! Commands that are run here once a tunnel carries.

use lantern_book::TunnelEnd;

use crate::quoted::filled;

/// A command with `{address}` and `{port}` replaced by where the tunnel listens, each as a word that a POSIX shell takes for one word and nothing else. A
/// socket's path is its address, and it has no port.
pub fn command_line(command: &str, at: &TunnelEnd) -> String {
    let (address, port) = match at {
        TunnelEnd::Tcp { host, port } => (host.clone(), port.to_string()),
        TunnelEnd::Unix(path) => (path.clone(), String::new()),
    };
    filled(command, &[("address", &address), ("port", &port)])
}

/// The variable that tells a command where the tunnel of this name listens.
pub fn variable_name(tunnel: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' };
    format!("LANTERN_TUNNEL_{}", tunnel.chars().map(plain).collect::<String>())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_put_in_as_words_and_everything_else_stays() {
        let at = TunnelEnd::Tcp { host: "127.0.0.1".into(), port: 3389 };
        for (command, expected) in [
            ("viewer --at {address}:{port}", "viewer --at 127.0.0.1:3389"),
            ("{port} {port}", "3389 3389"),
            ("awk '{print}' {x} {", "awk '{print}' {x} {"),
        ] {
            assert_eq!(command_line(command, &at), expected);
        }
        let odd = TunnelEnd::Unix("/run/it's {port}; rm -r x".into());
        assert_eq!(command_line("look {address}", &odd), r"look '/run/it'\''s {port}; rm -r x'");
        assert_eq!(command_line("look {port}", &odd), "look ''");
        assert_eq!(variable_name("web-console.2"), "LANTERN_TUNNEL_WEB_CONSOLE_2");
    }
}
