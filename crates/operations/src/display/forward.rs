//! A display in the hands of a machine's programs.

use std::sync::Arc;
use std::time::Duration;

use bytes::Bytes;
use lantern_keys::RandomSource;
use lantern_link::{
    AuthorityFile, DisplayAuthorization, DisplayError, DisplayHere, DisplayName, Grant, Granted, LocalStream,
    Opened, RestrictedAuthorization, Trunk, Uses, refuse_display, relay, restricted_authorization,
};
use lantern_ssh::{COOKIE_PROTOCOL, Cookie, DisplayRequest, DisplaySetup};
use tokio::sync::{Mutex, Semaphore};
use tracing::debug;

use super::look::{here, look_at, name_of};
use super::start::start;
use super::{DisplayFailure, DisplayPlace, DisplayTrust, Windows};

/// Most programs of a machine at the display at once: what display servers take from everybody together is not much more.
const MAX_WINDOWS: usize = 256;
/// How long the display remembers a restricted authorization that nobody uses. It is looked at before each program, and made anew when it has gone.
const UNUSED: Duration = Duration::from_secs(20 * 60);

/// A display that was looked at, for the programs of a machine.
#[derive(Debug)]
pub struct DisplayForward {
    name: DisplayName,
    authority: AuthorityFile,
    trust: DisplayTrust,
    /// What the display knows as one that sees nothing of the others.
    restricted: Mutex<Option<RestrictedAuthorization>>,
    windows: Arc<Windows>,
}

impl DisplayForward {
    /// Finds the display, starts it when it does not answer and the book says how, and makes sure that it does what is wanted of it. `starting` hears of
    /// the command before it is run, and of the display's name.
    ///
    /// # Errors
    /// [`DisplayFailure`].
    pub async fn prepare(
        place: &DisplayPlace,
        trust: DisplayTrust,
        starting: impl Fn(&str, &str),
    ) -> Result<Self, DisplayFailure> {
        let authority = AuthorityFile::new(place.authority.clone());
        let met = match name_of(place) {
            Ok(name) => look_at(&name, &authority).await.map(|seen| (name, seen)),
            Err(failure) => Err(failure),
        };
        let is_absent = |failure: &DisplayFailure| match failure {
            DisplayFailure::NoName => true,
            DisplayFailure::Display(error) => matches!(error, DisplayError::NotThere { .. }),
            _ => false,
        };
        let (name, seen) = match (met, &place.start) {
            (Err(failure), Some(command)) if is_absent(&failure) => {
                start(place, command, &authority, starting).await?
            }
            (met, _) => met?,
        };
        if trust != DisplayTrust::Trusted && !seen.has_security {
            return Err(DisplayFailure::NoSecurity { name: seen.name });
        }
        let windows = Windows::new(seen.name, trust);
        let forward = Self { name, authority, trust, restricted: Mutex::new(None), windows };
        // What cannot be had is said now, and not when a program wants to draw.
        forward.shown().await?;
        Ok(forward)
    }

    /// What is going on at the display.
    pub fn windows(&self) -> &Arc<Windows> {
        &self.windows
    }

    /// Lets the machine's programs come back to draw from now on, in tasks of their own; what the machine is to be told. It never hears of the display's
    /// own cookie: that which it gets is good for this session alone.
    pub fn serve(self, trunk: &Trunk, random: &mut dyn RandomSource) -> DisplayRequest {
        let cookie = Cookie::random(random);
        let single = self.trust == DisplayTrust::Single;
        let uses = if single { Uses::Once } else { Uses::Many };
        let granted = trunk.grant(Grant::Display(cookie.clone()), uses);
        let request = DisplayRequest {
            single,
            protocol: COOKIE_PROTOCOL.to_owned(),
            cookie: cookie.to_hex(),
            screen: self.name.screen(),
        };
        tokio::spawn(Arc::new(self).take(granted));
        request
    }

    async fn take(self: Arc<Self>, mut granted: Granted) {
        let places = Arc::new(Semaphore::new(MAX_WINDOWS));
        while let Some(opened) = granted.next().await {
            let Ok(Some(setup)) = DisplaySetup::read(&opened.first) else { continue };
            let place = places.clone().try_acquire_owned();
            let forward = self.clone();
            tokio::spawn(async move {
                match place {
                    Ok(_place) => forward.join(opened, setup).await,
                    Err(_) => refuse(opened, &setup, "this machine has as many windows here as it may").await,
                }
            });
        }
    }

    /// Joins a program with the display, which is shown its own cookie in place of the session's.
    async fn join(&self, opened: Opened, setup: DisplaySetup) {
        let (line, shown) = match self.reach().await {
            Ok(reached) => reached,
            Err(failure) => {
                let why = lantern_link::chain(&failure);
                debug!(%why, "a program cannot draw");
                refuse(opened, &setup, &why).await;
                return self.windows.fail(why);
            }
        };
        let _open = self.windows.open();
        let (protocol, data) = match &shown {
            Some(shown) => (shown.protocol.as_slice(), shown.data.as_slice()),
            None => (&[][..], &[][..]),
        };
        let Opened { channel, first, .. } = opened;
        // It is wiped when it has been written.
        let mut own = Bytes::from_owner(setup.with_authorization(protocol, data).encode());
        let mut behind = first.slice(setup.encoded_len().min(first.len())..);
        let begun = async {
            line.write_all(&mut own).await?;
            line.write_all(&mut behind).await
        };
        tokio::select! {
            begun = begun => if let Err(error) = begun {
                return self.windows.fail(error.to_string());
            },
            _ = channel.ended() => return,
        }
        channel.consumed(first.len());
        drop(first);
        let _ = relay(channel, line, Bytes::new(), &self.windows.passed).await;
    }

    async fn reach(&self) -> Result<(LocalStream, Option<DisplayAuthorization>), DisplayFailure> {
        let shown = self.shown().await?;
        let here = DisplayHere { name: self.name.clone(), authorization: None };
        Ok((here.line().await?, shown))
    }

    /// What the display is to be shown. The file is read anew: a display that was started again has another cookie.
    async fn shown(&self) -> Result<Option<DisplayAuthorization>, DisplayFailure> {
        let here = here(&self.name, &self.authority)?;
        if self.trust == DisplayTrust::Trusted {
            return Ok(here.authorization);
        }
        let mut kept = self.restricted.lock().await;
        if let Some(made) = &*kept
            && self.is_restricted(&made.authorization).await?
        {
            return Ok(Some(made.authorization.clone()));
        }
        *kept = None;
        let name = || self.name.to_string();
        let made = restricted_authorization(&here, UNUSED).await?;
        let made = made.ok_or_else(|| DisplayFailure::NoSecurity { name: name() })?;
        let authorization = made.authorization.clone();
        if !self.is_restricted(&authorization).await? {
            return Err(DisplayFailure::NotRestricted { name: name() });
        }
        *kept = Some(made);
        Ok(Some(authorization))
    }

    /// Whether the display takes this, and as one that is not trusted. One that it has forgotten is not enough to be refused by it: a display which lets
    /// all programs of a user in takes whoever shows something unknown for one of those, with all their rights. Those that are not trusted do not get to
    /// see the extension (Security Extension Specification, "extension security").
    async fn is_restricted(&self, shown: &DisplayAuthorization) -> Result<bool, DisplayFailure> {
        let here = DisplayHere { name: self.name.clone(), authorization: Some(shown.clone()) };
        match here.look().await {
            Ok(answer) => Ok(!answer.has_security),
            Err(DisplayError::Refused { .. }) => Ok(false),
            Err(error) => Err(error.into()),
        }
    }
}

async fn refuse(opened: Opened, setup: &DisplaySetup, why: &str) {
    opened.channel.consumed(opened.first.len());
    refuse_display(opened.channel, setup, why).await;
}
