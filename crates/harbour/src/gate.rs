//! Whom a simulated machine lets in.

use std::time::Instant;

use lantern_keys::SecretString;
use lantern_link::PumpError;
use lantern_ssh::{AuthAnswer, AuthMethod, AuthRequest, Prompt, Prompts, Server};

use crate::serve::Visit;
use crate::{LoginRule, UserSpec};

impl Visit {
    pub(crate) fn log_in(&mut self, request: AuthRequest, server: &mut Server) -> Result<(), PumpError> {
        if !std::mem::replace(&mut self.greeted, true)
            && let Some(banner) = &self.spec.banner
        {
            server.banner(banner)?;
        }
        // RFC 4252 §5: a change of user starts over.
        if self.user.as_ref().is_none_or(|user| user.name != request.user) {
            self.passed.clear();
            self.user = self.spec.users.iter().find(|user| user.name == request.user).cloned();
        }
        let answer = self.judge(request.method);
        let accepted = answer == AuthAnswer::Accept;
        server.answer_auth(answer, Instant::now())?;
        if accepted && self.spec.announces {
            server.announce_host_keys()?;
        }
        Ok(())
    }

    fn judge(&mut self, method: AuthMethod) -> AuthAnswer {
        let Some(user) = self.user.clone() else { return self.reject(false) };
        let next = self.acceptable();
        match method {
            AuthMethod::QueryPublicKey(key)
                if next.contains(&"publickey") && self.holdings.logins.contains(&user.name, &key) =>
            {
                AuthAnswer::PublicKeyOk
            }
            AuthMethod::PublicKey(key)
                if next.contains(&"publickey") && self.holdings.logins.contains(&user.name, &key) =>
            {
                self.pass("publickey")
            }
            AuthMethod::Password(given)
                if next.contains(&"password") && user.password == Some(given.clone()) =>
            {
                match user.password_expired {
                    true => AuthAnswer::PasswordExpired("Your password is older than the lamp.".into()),
                    false => self.pass("password"),
                }
            }
            AuthMethod::ChangePassword { old, new }
                if next.contains(&"password") && user.password == Some(old.clone()) && old != new =>
            {
                self.pass("password")
            }
            AuthMethod::KeyboardInteractive if next.contains(&"keyboard-interactive") => {
                self.rounds = rounds(&user);
                self.next_round()
            }
            AuthMethod::Answers(answers) => match (self.expected.take(), answers.as_slice()) {
                (Some(expected), [given]) if *given == expected => self.next_round(),
                _ => self.reject(false),
            },
            _ => self.reject(false),
        }
    }

    /// The next question, or the end of them.
    fn next_round(&mut self) -> AuthAnswer {
        if self.rounds.is_empty() {
            return self.pass("keyboard-interactive");
        }
        let (prompts, expected) = self.rounds.remove(0);
        self.expected = Some(expected);
        AuthAnswer::Prompts(prompts)
    }

    fn pass(&mut self, method: &'static str) -> AuthAnswer {
        self.passed.push(method);
        let enough = match self.user.as_ref().map(|user| &user.rule) {
            Some(LoginRule::AnyOf(_)) => true,
            Some(LoginRule::InTurn(all)) => self.passed.len() == all.len(),
            None => false,
        };
        if enough { AuthAnswer::Accept } else { self.reject(true) }
    }

    /// The methods that would be taken now.
    fn acceptable(&self) -> Vec<&'static str> {
        match self.user.as_ref().map(|user| &user.rule) {
            Some(LoginRule::AnyOf(any)) => any.clone(),
            Some(LoginRule::InTurn(all)) => all.get(self.passed.len()).copied().into_iter().collect(),
            // Nobody learns from the answer whether a user exists.
            None => vec!["publickey", "password", "keyboard-interactive"],
        }
    }

    fn reject(&self, partial_success: bool) -> AuthAnswer {
        AuthAnswer::Reject {
            methods: self.acceptable().into_iter().map(str::to_owned).collect(),
            partial_success,
        }
    }
}

/// The questions of keyboard-interactive for a user: the password, then the code.
fn rounds(user: &UserSpec) -> Vec<(Prompts, SecretString)> {
    let question = |text: &str, echo| Prompts {
        name: String::new(),
        instruction: String::new(),
        prompts: vec![Prompt { text: text.into(), echo }],
    };
    let password = user.password.clone().map(|answer| (question("Password: ", false), answer));
    let code = user.code.clone().map(|answer| (question("Code on the lamp room door: ", true), answer));
    password.into_iter().chain(code).collect()
}
