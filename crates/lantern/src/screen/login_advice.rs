//! What a refused login means, and what to do about it: the likeliest first.

use lantern_link::AuthFailure;
use lantern_operations::{LoginClues, Target};

use lantern_operations::quoted;

/// Most names that are told.
const MAX_NAMES: usize = 12;

/// One thing that may be amiss.
pub(crate) struct Advice {
    /// What, in a sentence.
    pub(crate) words: String,
    /// What to type; empty where there is nothing to type.
    pub(crate) command: String,
}

/// The command that was typed, to be typed again with more to it.
#[derive(Clone, Copy)]
pub(crate) enum Typed {
    /// `lantern check`
    Check,
    /// Anything else: a shell shows best whether it works.
    Shell,
}

impl Typed {
    fn again(self, name: &str) -> String {
        match self {
            Self::Check => format!("lantern check {name}"),
            Self::Shell => format!("lantern shell {name}"),
        }
    }
}

/// Names, the first of them where there are many.
pub(crate) fn some(names: &[String]) -> String {
    match names.len() {
        0..=MAX_NAMES => names.join(", "),
        more => {
            let first: Vec<&str> = names.iter().take(MAX_NAMES).map(String::as_str).collect();
            format!("{} and {} more", first.join(", "), more - MAX_NAMES)
        }
    }
}

/// What may be amiss. `name` is how the machine is typed; `typed` what was done with it.
pub(crate) fn advise(
    auth: &AuthFailure,
    target: Option<&Target>,
    clues: &LoginClues,
    name: &str,
    typed: Typed,
) -> Vec<Advice> {
    let mut all = Vec::new();
    let again = typed.again(name);
    let mut say = |words: String, command: String| all.push(Advice { words, command });
    for (path, mode) in auth.exposed.iter().take(MAX_NAMES) {
        say(
            format!(
                "{} was not offered: others on this computer may read it (mode {mode:04o})",
                path.display()
            ),
            format!("chmod 600 {}", quoted(path)),
        );
    }
    let outcome = |start: &str| auth.report.iter().find(|line| line.outcome.starts_with(start));
    if let Some(locked) = outcome("locked") {
        let key = locked.what.split_whitespace().nth(1).unwrap_or("KEY");
        say("unlock the key once, and all logins have it".into(), format!("lantern keeper add {key}"));
        return all;
    }
    // A key that the machine would take says that the user is right, and so does half a success.
    if outcome("accepted").is_some() {
        let words = "what was offered is right, and the machine wants more: at a terminal you are asked for it; --password-from SOURCE gives a password";
        say(words.into(), format!("lantern shell {name}"));
        return all;
    }
    if !auth.not_offered.is_empty() {
        let words = format!(
            "not offered, since a server allows few tries and each key is one: {}",
            some(&auth.not_offered)
        );
        say(words, format!("{again} --key NAME"));
        if !name.contains([':', '@']) {
            say(
                "and the book can say which key is meant".into(),
                format!("lantern machine set {name} key=NAME"),
            );
        }
    }
    if let Some(same) = &clues.same_host {
        let user = same.user.as_ref().map(|user| format!(" as {user}")).unwrap_or_default();
        let key = same.key.as_ref().map(|key| format!(" with the key {key}")).unwrap_or_default();
        say(
            format!("the book has the same machine as {}: there a login{user}{key} worked", same.machine),
            format!("lantern shell {}", same.machine),
        );
    }
    let image = target.and_then(|target| target.image.as_deref()).and_then(lantern_book::image);
    let offered_a_key = auth.report.iter().any(|line| line.what.starts_with("key "));
    if !offered_a_key && auth.exposed.is_empty() && auth.not_offered.is_empty() {
        no_key(auth, target, clues, name, &again, &mut say);
        return all;
    }
    if let Some(image) = image {
        let users = image.users.join(", ");
        let other = image.users.iter().find(|user| **user != auth.user);
        let command = other.map(|other| format!("{again} --user {other}")).unwrap_or_default();
        say(format!("machines made from {} images begin with the user {users}", image.name), command);
    }
    if takes(auth, "password") || takes(auth, "keyboard-interactive") {
        let key = target.and_then(|target| target.keys.first()).map_or("KEY", String::as_str);
        say(
            "the machine also takes a password: with it, a key can be put there".into(),
            format!("lantern key install {key} {name}{}", for_whom(auth, target)),
        );
    }
    if image.is_none() {
        let words = format!(
            "is {} the right user? Images fix it, and a wrong one looks just like a wrong key",
            auth.user
        );
        say(words, format!("{again} --user OTHER"));
    }
    say(
        "on the machine's own console, as that user: others must not be able to write to the list".into(),
        "ls -ld ~ ~/.ssh ~/.ssh/authorized_keys".into(),
    );
    all
}

fn takes(auth: &AuthFailure, method: &str) -> bool {
    auth.methods.iter().any(|name| name == method)
}

/// `--user NAME`, where that is not what the book says.
fn for_whom(auth: &AuthFailure, target: Option<&Target>) -> String {
    match target.and_then(|target| target.user.as_deref()) {
        Some(user) if user == auth.user => String::new(),
        // A one-off says it itself.
        _ if auth.machine.contains([':', '@']) => String::new(),
        _ => format!(" --user {}", auth.user),
    }
}

fn no_key(
    auth: &AuthFailure,
    target: Option<&Target>,
    clues: &LoginClues,
    name: &str,
    again: &str,
    say: &mut impl FnMut(String, String),
) {
    if !takes(auth, "publickey") {
        match takes(auth, "password") || takes(auth, "keyboard-interactive") {
            true => say(
                "it takes no keys: at a terminal you are asked for the password; --password-from SOURCE gives it".into(),
                format!("lantern shell {name}"),
            ),
            false => say(
                format!("it takes nothing that could be offered for {}: is that the right user?", auth.user),
                format!("{again} --user OTHER"),
            ),
        }
        return;
    }
    if clues.has_keys {
        say("no key was offered, though the ring has some".into(), format!("{again} --key NAME"));
        return;
    }
    let words = "no key was offered: the ring is empty. One that you were given is taken in from its file";
    say(words.into(), "lantern key import FILE".into());
    say(
        "and a new one is put there with a password, or in the machine's own console".into(),
        format!("lantern key new NAME && lantern key install NAME {name}{}", for_whom(auth, target)),
    );
}
