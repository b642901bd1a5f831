//! What to try next: a plan over the keys at hand and the methods that the server names, and an account of what
//! was tried and why the rest was not. Pure logic; the driver carries out each step.

use lantern_keys::PublicKey;

/// Most passwords asked for on one connection, and most rounds of keyboard-interactive started: servers close at
/// about six failures, keys included.
const MAX_SECRET_TRIES: u32 = 3;

/// A key that could be offered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyCandidate {
    /// What the user calls it.
    pub name: String,
    /// The public half.
    pub public: PublicKey,
    /// Whether using it costs a question (for its passphrase): the server is then asked first.
    pub locked: bool,
}

/// The next thing to do. Keys are given by their place in the list of candidates.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlannedStep {
    /// Ask for the methods by trying without anything.
    Probe,
    /// Send a signature of this key.
    Sign(usize),
    /// Ask whether this key would do, before unlocking it.
    Query(usize),
    /// Start keyboard-interactive.
    KeyboardInteractive,
    /// Ask for the password and send it.
    Password,
    /// Nothing is left to try.
    GiveUp,
}

/// What became of one thing that could be tried, for the account when login fails.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlanReport {
    /// What: "key foghorn (SHA256:…)", "password", "keyboard-interactive".
    pub what: String,
    /// What became of it, in a few words.
    pub outcome: &'static str,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum KeyState {
    Untried,
    Accepted,
    Used(&'static str),
}

/// The plan for one login.
#[derive(Debug)]
pub struct AuthPlan {
    keys: Vec<(KeyCandidate, KeyState)>,
    methods: Option<Vec<String>>,
    /// Whether there is a ready-made password, so that "password" is better than being asked.
    password_at_hand: bool,
    /// Whether nothing but keys is tried.
    keys_only: bool,
    /// Whether the server is asked for its methods before anything is tried.
    probe_first: bool,
    /// How many keys are offered before anybody is asked a question; the others come after.
    keys_first: usize,
    password_tries: u32,
    interactive_tries: u32,
    report: Vec<PlanReport>,
    current: Option<PlannedStep>,
}

impl AuthPlan {
    /// A plan over these keys, in this order.
    pub fn new(keys: Vec<KeyCandidate>, password_at_hand: bool) -> Self {
        Self {
            keys: keys.into_iter().map(|key| (key, KeyState::Untried)).collect(),
            methods: None,
            password_at_hand,
            keys_only: false,
            probe_first: false,
            keys_first: usize::MAX,
            password_tries: 0,
            interactive_tries: 0,
            report: Vec::new(),
            current: None,
        }
    }

    /// The same without passwords and questions: to prove that a key logs in.
    pub fn with_keys_only(mut self) -> Self {
        self.keys_only = true;
        self
    }

    /// The same, asking the server for its methods first: a round trip more, for those who want to know.
    pub fn with_probe_first(mut self) -> Self {
        self.probe_first = true;
        self
    }

    /// The same with so many keys before questions, where the server lets us answer any: each key is one of the few tries that it allows.
    pub fn with_keys_first(mut self, keys: usize) -> Self {
        self.keys_first = keys;
        self
    }

    /// The next step.
    pub fn next_step(&mut self) -> PlannedStep {
        let step = self.choose();
        self.current = Some(step);
        step
    }

    fn choose(&self) -> PlannedStep {
        if self.probe_first && self.methods.is_none() {
            return PlannedStep::Probe;
        }
        let key = self.next_key();
        let offered = self.keys.iter().filter(|(_, state)| *state != KeyState::Untried).count();
        let is_accepted =
            matches!(key, Some(PlannedStep::Sign(index)) if self.keys[index].1 == KeyState::Accepted);
        match (key, self.next_question()) {
            (Some(key), _) if is_accepted || offered < self.keys_first => key,
            (_, Some(question)) => question,
            (Some(key), None) => key,
            (None, None) if self.methods.is_none() => PlannedStep::Probe,
            (None, None) => PlannedStep::GiveUp,
        }
    }

    fn next_key(&self) -> Option<PlannedStep> {
        if !self.takes("publickey") {
            return None;
        }
        let first = |wanted: KeyState| self.keys.iter().position(|(_, state)| *state == wanted);
        if let Some(index) = first(KeyState::Accepted) {
            return Some(PlannedStep::Sign(index));
        }
        let index = first(KeyState::Untried)?;
        Some(if self.keys[index].0.locked { PlannedStep::Query(index) } else { PlannedStep::Sign(index) })
    }

    fn next_question(&self) -> Option<PlannedStep> {
        if self.keys_only || self.methods.is_none() {
            return None;
        }
        let password = self.takes("password") && self.password_tries < MAX_SECRET_TRIES;
        let interactive = self.takes("keyboard-interactive") && self.interactive_tries < MAX_SECRET_TRIES;
        match (password, interactive) {
            (true, _) if self.password_at_hand && self.password_tries == 0 => Some(PlannedStep::Password),
            (_, true) => Some(PlannedStep::KeyboardInteractive),
            (true, false) => Some(PlannedStep::Password),
            (false, false) => None,
        }
    }

    fn takes(&self, method: &str) -> bool {
        self.methods.as_ref().is_none_or(|methods| methods.iter().any(|name| name == method))
    }

    /// The server's no to the current step, and what it takes from now on.
    pub fn on_rejected(&mut self, methods: Vec<String>, partial_success: bool) {
        let rsa = match self.current {
            Some(PlannedStep::Sign(index)) => matches!(self.keys[index].0.public, PublicKey::Rsa { .. }),
            _ => false,
        };
        self.settle(match (partial_success, rsa) {
            (true, _) => "accepted, but more is needed",
            // Servers of that age do not say what they take.
            (false, true) => {
                "refused by the server (one that takes only signatures with SHA-1 of RSA keys, which are not made any more, refuses too: RFC 8332)"
            }
            (false, false) => "refused by the server",
        });
        if partial_success {
            // RFC 4252 §5.1: a new stage, with tries of its own. A key that served once will not serve twice.
            self.password_tries = 0;
            self.interactive_tries = 0;
        }
        self.methods = Some(methods);
    }

    /// The server would take the key it was asked about.
    pub fn on_query_accepted(&mut self) {
        if let Some(PlannedStep::Query(index)) = self.current {
            self.keys[index].1 = KeyState::Accepted;
        }
    }

    /// The current step came to nothing on our side; `why` in a few words.
    pub fn on_impossible(&mut self, why: &'static str) {
        self.settle(why);
        match self.current {
            // No one is there to answer: asking again will not help.
            Some(PlannedStep::Password) => self.password_tries = MAX_SECRET_TRIES,
            Some(PlannedStep::KeyboardInteractive) => self.interactive_tries = MAX_SECRET_TRIES,
            _ => {}
        }
    }

    fn settle(&mut self, outcome: &'static str) {
        match self.current {
            Some(PlannedStep::Sign(index) | PlannedStep::Query(index)) => {
                self.keys[index].1 = KeyState::Used(outcome);
            }
            Some(PlannedStep::Password) => {
                self.password_tries += 1;
                self.report.push(PlanReport { what: "password".into(), outcome });
            }
            Some(PlannedStep::KeyboardInteractive) => {
                self.interactive_tries += 1;
                self.report.push(PlanReport { what: "keyboard-interactive".into(), outcome });
            }
            _ => {}
        }
    }

    /// What the current step offers, in the words of the report.
    pub fn current(&self) -> String {
        match self.current {
            Some(PlannedStep::Sign(index) | PlannedStep::Query(index)) => {
                self.keys.get(index).map_or_else(String::new, |(key, _)| name_of(key))
            }
            Some(PlannedStep::Password) => "password".into(),
            Some(PlannedStep::KeyboardInteractive) => "keyboard-interactive".into(),
            _ => "nothing: the server lets this user in without a proof".into(),
        }
    }

    /// The methods that the server named last.
    pub fn methods(&self) -> &[String] {
        self.methods.as_deref().unwrap_or_default()
    }

    /// The key that the current step offers.
    pub fn current_key(&self) -> Option<&PublicKey> {
        match self.current {
            Some(PlannedStep::Sign(index)) => self.keys.get(index).map(|(key, _)| &key.public),
            _ => None,
        }
    }

    /// The names of the keys that were offered and came to nothing.
    pub fn refused_keys(&self) -> Vec<String> {
        let used = self.keys.iter().filter(|(_, state)| matches!(state, KeyState::Used(_)));
        used.map(|(key, _)| key.name.clone()).collect()
    }

    /// The names of the keys that were not offered, though the server takes keys.
    pub fn untried_keys(&self) -> Vec<String> {
        let untried =
            self.keys.iter().filter(|(_, state)| *state == KeyState::Untried && self.takes("publickey"));
        untried.map(|(key, _)| key.name.clone()).collect()
    }

    /// What was tried, and what became of it; keys besides that the server takes none of. What came to the same several times is told once.
    pub fn report(&self) -> Vec<PlanReport> {
        let keys = self.keys.iter().filter_map(|(key, state)| {
            let outcome = match state {
                KeyState::Used(outcome) => outcome,
                _ if !self.takes("publickey") => "not tried: the server takes no keys",
                KeyState::Accepted => "not tried",
                KeyState::Untried => return None,
            };
            Some(PlanReport { what: name_of(key), outcome })
        });
        let mut report: Vec<PlanReport> = Vec::new();
        for line in keys.chain(self.report.iter().cloned()) {
            if !report.contains(&line) {
                report.push(line);
            }
        }
        report
    }
}

fn name_of(key: &KeyCandidate) -> String {
    format!("key {} ({})", key.name, key.public.fingerprint())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(name: &str, locked: bool) -> KeyCandidate {
        let byte = name.len() as u8;
        KeyCandidate { name: name.into(), public: PublicKey::Ed25519([byte; 32]), locked }
    }

    fn methods(names: &[&str]) -> Vec<String> {
        names.iter().map(|name| (*name).to_owned()).collect()
    }

    #[test]
    fn keys_come_first_then_questions_then_the_end_with_an_account() {
        let mut plan = AuthPlan::new(vec![key("lamp", false), key("foghorn", true)], false);
        assert_eq!(plan.next_step(), PlannedStep::Sign(0));
        plan.on_rejected(methods(&["publickey", "password", "keyboard-interactive"]), false);
        assert_eq!(plan.next_step(), PlannedStep::Query(1));
        plan.on_query_accepted();
        assert_eq!(plan.next_step(), PlannedStep::Sign(1));
        plan.on_rejected(methods(&["password", "keyboard-interactive"]), true);
        for _ in 0..MAX_SECRET_TRIES {
            assert_eq!(plan.next_step(), PlannedStep::KeyboardInteractive);
            plan.on_rejected(methods(&["password", "keyboard-interactive"]), false);
        }
        assert_eq!(plan.next_step(), PlannedStep::Password);
        plan.on_impossible("no terminal to ask at");
        assert_eq!(plan.next_step(), PlannedStep::GiveUp);
        let outcomes: Vec<_> = plan.report().into_iter().map(|line| line.outcome).collect();
        assert_eq!(outcomes[..2], ["refused by the server", "accepted, but more is needed"]);
        assert_eq!(outcomes.last(), Some(&"no terminal to ask at"));
    }

    #[test]
    fn a_few_keys_come_before_questions_and_the_others_after() {
        let names = ["a", "bb", "ccc", "dddd"];
        let keys = || names.iter().map(|name| key(name, false)).collect::<Vec<_>>();
        let mut plan = AuthPlan::new(keys(), false).with_keys_first(2);
        for index in 0..2 {
            assert_eq!(plan.next_step(), PlannedStep::Sign(index));
            plan.on_rejected(methods(&["publickey", "keyboard-interactive"]), false);
        }
        assert_eq!(plan.refused_keys(), ["a", "bb"]);
        for _ in 0..MAX_SECRET_TRIES {
            assert_eq!(plan.next_step(), PlannedStep::KeyboardInteractive);
            plan.on_rejected(methods(&["publickey", "keyboard-interactive"]), false);
        }
        assert_eq!(plan.next_step(), PlannedStep::Sign(2));
        plan.on_impossible("the server ended the login here");
        assert_eq!(plan.untried_keys(), ["dddd"]);
        // Three tries that came to the same are one line.
        let interactive = plan.report().into_iter().filter(|line| line.what == "keyboard-interactive");
        assert_eq!((interactive.count(), plan.report().len()), (1, 4));

        // A server that takes nothing else is offered all of them.
        let mut plan = AuthPlan::new(keys(), false).with_keys_first(2);
        for index in 0..4 {
            assert_eq!(plan.next_step(), PlannedStep::Sign(index));
            plan.on_rejected(methods(&["publickey"]), false);
        }
        assert_eq!(plan.next_step(), PlannedStep::GiveUp);
        assert!(plan.untried_keys().is_empty());
    }

    #[test]
    fn without_keys_the_server_is_asked_what_it_takes_and_a_ready_password_goes_first() {
        let mut plan = AuthPlan::new(vec![], true);
        assert_eq!(plan.next_step(), PlannedStep::Probe);
        plan.on_rejected(methods(&["keyboard-interactive", "password"]), false);
        assert_eq!(plan.next_step(), PlannedStep::Password);

        let mut plan = AuthPlan::new(vec![key("lamp", false)], true).with_keys_only();
        assert_eq!(plan.next_step(), PlannedStep::Sign(0));
        plan.on_rejected(methods(&["password"]), true);
        assert_eq!(plan.next_step(), PlannedStep::GiveUp);

        let mut plan = AuthPlan::new(vec![key("lamp", false)], false);
        plan.next_step();
        plan.on_rejected(methods(&["gssapi-with-mic"]), false);
        assert_eq!(plan.next_step(), PlannedStep::GiveUp);
    }
}
