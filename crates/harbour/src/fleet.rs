//! The machines of the demo.

use std::sync::Arc;

use lantern_keys::{Curve, KeyAlgorithm, KeyError, PrivateKey, PublicKey, SecretString};

use crate::{Acting, LoginRule, MachineSpec, Service, UserSpec, WindowsSpec};

/// The sample machines: two lamps that take a key, a foghorn that wants key and password, a tide gauge that asks
/// for a code, a signal hut with a banner and a console that only itself reaches, and a gateway with two machines that only it reaches. `key` is the keeper's.
///
/// # Errors
/// When host keys cannot be made.
pub fn sample_fleet(key: &PublicKey) -> Result<Vec<MachineSpec>, KeyError> {
    let with_user = |name: &str, number: u8, user: UserSpec| {
        MachineSpec::new(name, number).map(|spec| MachineSpec { users: vec![user], ..spec })
    };
    let keeper = || UserSpec::new("keeper", None, vec![key.clone()]);
    let by_key = || UserSpec { rule: LoginRule::AnyOf(vec!["publickey"]), ..keeper() };
    let both = UserSpec {
        rule: LoginRule::InTurn(vec!["publickey", "password"]),
        password: Some(SecretString::new("low visibility".into())),
        ..keeper()
    };
    let code = UserSpec {
        rule: LoginRule::AnyOf(vec!["keyboard-interactive"]),
        password: Some(SecretString::new("spring tide".into())),
        code: Some(SecretString::new("2718".into())),
        ..keeper()
    };
    let mut signal_hut = with_user("signal-hut", 15, by_key())?;
    signal_hut.banner = Some("Keepers of the northern lights only. What you do here is logged.\n".into());
    // A console and a plain page, on its own loopback alone; whatever else is asked for there is refused.
    signal_hut.services = vec![
        (443, Service::SecurePage),
        (80, Service::Page),
        (25, Service::Greeting("220 signal-hut.lights.example ESMTP\r\n")),
    ];
    signal_hut.listens = true;
    let lamp_01 = MachineSpec {
        services: vec![(80, Service::Page)],
        listens: true,
        displays: true,
        acting: Acting::Freely,
        ..with_user("lamp-01", 11, by_key())?
    };
    let gate = MachineSpec { gateway: true, ..with_user("harbour-gate", 16, by_key())? };
    let inner = |name: &str, number: u8, address: &str| {
        with_user(name, number, by_key())
            .map(|spec| MachineSpec { inner_address: Some(address.into()), ..spec })
    };
    Ok(vec![
        lamp_01,
        MachineSpec {
            acting: Acting::ByPassword("calm sea".to_owned()),
            ..with_user("lamp-02", 12, by_key())?
        },
        with_user("foghorn", 13, both)?,
        with_user("tide-gauge", 14, code)?,
        signal_hut,
        gate,
        inner("pier-lamp", 21, "10.77.0.21")?,
        inner("fog-bell", 22, "10.77.0.22")?,
    ])
}

/// A machine that was made just now: nobody's key is there, and it has host keys of several kinds.
///
/// # Errors
/// When host keys cannot be made.
pub fn bare_machine() -> Result<MachineSpec, KeyError> {
    let mut spec = MachineSpec::new("lamp-03", 17)?;
    let more = PrivateKey::generate(KeyAlgorithm::Ecdsa(Curve::P256), "lamp-03")?;
    spec.host_keys.push(Arc::new(more));
    let keeper =
        UserSpec { rule: LoginRule::AnyOf(vec!["publickey"]), ..UserSpec::new("keeper", None, vec![]) };
    Ok(MachineSpec { users: vec![keeper], ..spec })
}

/// The sample machine of Windows: a chart room, whose keeper logs in by the password "high water".
///
/// # Errors
/// When no certificate can be made.
pub fn sample_windows() -> std::io::Result<WindowsSpec> {
    WindowsSpec::new("chart-room", 15, "keeper", "high water")
}
