//! What a simulated machine asks of the terminal at the other end.

use lantern_keys::{SecretString, SystemRandom};
use lantern_winrm::remoting::{MessageKind, Objects, Value};

use super::item::Item;
use super::runner::Runner;
use super::stages::{Arguments, Stage};
use super::trouble::{End, Trouble};

/// The number of a question that nobody waits for.
const UNANSWERED: i64 = -100;

impl Runner {
    /// Calls a method of the host; its answer, where there is to be one.
    pub(super) async fn call(
        &mut self,
        method: i32,
        name: &str,
        wants: bool,
        arguments: impl FnOnce(&mut Objects) -> Vec<Value>,
    ) -> Result<Item, End> {
        let number = if wants { self.calls + 1 } else { UNANSWERED };
        self.calls += i64::from(wants);
        let data = {
            let mut objects = Objects::default();
            let arguments = arguments(&mut objects);
            let arguments = objects.list(arguments);
            let method =
                objects.enumeration("System.Management.Automation.Remoting.RemoteHostMethodId", name, method);
            let root = objects.bag([("ci", number.into()), ("mi", method), ("mp", arguments)]);
            objects.write(&root)
        };
        self.say(MessageKind::PipelineHostCall, data).await?;
        if !wants {
            return Ok(Item::Nothing);
        }
        loop {
            let answer = tokio::select! {
                () = self.out.interrupted() => return Err(End::Stopped),
                answer = self.answers.recv() => answer.ok_or(End::Stopped)?,
            };
            let Some(root) = answer.first() else { continue };
            if answer.number_of(root, "ci") != Some(number) {
                continue;
            }
            if let Some(error) = root.get("me").and_then(|error| answer.of(error)) {
                let message = error.text.clone().unwrap_or_default();
                return Err(Trouble::new(message, "HostRefused", "NotImplemented", name).into());
            }
            return Ok(root.get("mr").map_or(Item::Nothing, |value| Item::of(&answer, value)));
        }
    }

    /// A secret as text.
    fn opened(&self, item: &Item) -> String {
        let state = self.session.lock();
        match (item, &state.key) {
            (Item::Secret(sealed), Some(key)) => {
                key.open(sealed).map(|text| text.expose_secret().to_owned()).unwrap_or_default()
            }
            _ => String::new(),
        }
    }

    /// A secret that goes out: there must be a key for it.
    async fn sealed(&self, text: &str) -> Result<Item, End> {
        loop {
            let mut keyed = std::pin::pin!(self.session.keyed.notified());
            keyed.as_mut().enable();
            if let Some(key) = &self.session.lock().key {
                return Ok(Item::Secret(key.seal(&SecretString::new(text.to_owned()))));
            }
            let kind = MessageKind::PublicKeyRequest;
            self.session.say_to(&self.session.pool, kind, [0; 16], "<S></S>".into()).await;
            tokio::select! {
                () = self.out.interrupted() => return Err(End::Stopped),
                () = keyed => {}
            }
        }
    }
}

fn field(objects: &mut Objects, name: &str, kind: &str, help: &str, default: &str) -> Value {
    objects.bag([
        ("name", name.into()),
        ("label", "".into()),
        ("parameterTypeName", kind.rsplit('.').next().unwrap_or(kind).into()),
        ("parameterTypeFullName", kind.into()),
        ("helpMessage", help.into()),
        ("isMandatory", true.into()),
        ("defaultValue", if default.is_empty() { Value::Nil } else { default.into() }),
    ])
}

fn choices(objects: &mut Objects, all: &[(&str, &str)]) -> Value {
    let all = all
        .iter()
        .map(|(label, help)| objects.bag([("label", (*label).into()), ("helpMessage", (*help).into())]));
    let all = all.collect();
    objects.list(all)
}

/// A command that asks or shows something.
pub(super) async fn source(
    runner: &mut Runner,
    name: &str,
    arguments: &Arguments,
    stages: &mut [Stage],
) -> Result<(), End> {
    const LAMPS: [(&str, &str); 3] =
        [("&Lamp-01", "The lamp of the tower"), ("Lamp-0&2", "The lamp of the pier"), ("&Foghorn", "")];
    match name.to_lowercase().as_str() {
        "write-host" => {
            let text = arguments.text_or_none("object", 0);
            match (arguments.text("foregroundcolor", usize::MAX), arguments.has("nonewline")) {
                (Some(colour), is_line) => {
                    let names = [
                        "black",
                        "darkblue",
                        "darkgreen",
                        "darkcyan",
                        "darkred",
                        "darkmagenta",
                        "darkyellow",
                        "gray",
                        "darkgray",
                        "blue",
                        "green",
                        "cyan",
                        "red",
                        "magenta",
                        "yellow",
                        "white",
                    ];
                    let colour = names.iter().position(|name| colour.eq_ignore_ascii_case(name)).unwrap_or(7);
                    let colour = i32::try_from(colour).unwrap_or(7);
                    let method = if is_line { (14, "Write2") } else { (17, "WriteLine3") };
                    runner
                        .call(method.0, method.1, false, |_| vec![colour.into(), 0.into(), text.into()])
                        .await?
                }
                (None, true) => runner.call(13, "Write1", false, |_| vec![text.into()]).await?,
                (None, false) => runner.call(16, "WriteLine2", false, |_| vec![text.into()]).await?,
            };
            Ok(())
        }
        "clear-host" => {
            runner
                .call(48, "SetBufferContents1", false, |objects| {
                    let sides = ["left", "top", "right", "bottom"].map(|side| (side, (-1).into()));
                    let rectangle = objects.bag(sides);
                    let cell = objects.bag([("character", " ".into())]);
                    vec![rectangle, cell]
                })
                .await?;
            Ok(())
        }
        "set-title" => {
            let title = arguments.text_or_none("title", 0);
            runner.call(42, "SetWindowTitle", false, |_| vec![title.into()]).await.map(|_| ())
        }
        "start-nested" => {
            let text = runner.call(7, "EnterNestedPrompt", true, |_| Vec::new()).await?.text();
            runner.emit(stages, Item::Text(text)).await
        }
        "get-hostsize" => {
            let size = runner.call(39, "GetWindowSize", true, |_| Vec::new()).await?;
            let told = format!("{}x{}", runner.host.width, runner.host.height);
            let size = size.property("V");
            let asked = format!("{}x{}", size.property("width").text(), size.property("height").text());
            runner.emit(stages, Item::Text(format!("told {told}, asked {asked}"))).await
        }
        "read-key" => {
            let key = runner.call(46, "ReadKey", true, |_| vec![6.into()]).await?;
            runner.emit(stages, Item::Text(format!("key {}", key.property("virtualKeyCode").text()))).await
        }
        "read-host" => {
            let is_secret = arguments.has("assecurestring");
            let answer = match arguments.text("prompt", 0) {
                Some(prompt) => {
                    let kind = if is_secret { "System.Security.SecureString" } else { "System.String" };
                    let asked = runner
                        .call(23, "Prompt", true, |objects| {
                            let field = field(objects, &prompt, kind, "", "");
                            let fields = objects.list(vec![field]);
                            vec!["".into(), "".into(), fields]
                        })
                        .await?;
                    asked.property(&prompt)
                }
                None if is_secret => runner.call(12, "ReadLineAsSecureString", true, |_| Vec::new()).await?,
                None => runner.call(11, "ReadLine", true, |_| Vec::new()).await?,
            };
            runner.emit(stages, answer).await
        }
        "read-fields" => {
            let answer = runner
                .call(23, "Prompt", true, |objects| {
                    let fields = vec![
                        field(objects, "Name", "System.String", "The lamp's name", ""),
                        field(objects, "Watts", "System.Int32", "", "40"),
                        field(objects, "Code", "System.Security.SecureString", "", ""),
                        field(objects, "Keepers", "System.String[]", "", ""),
                    ];
                    let fields = objects.list(fields);
                    vec!["New lamp".into(), "Supply values for the following:".into(), fields]
                })
                .await?;
            let code = runner.opened(&answer.property("Code"));
            for name in ["Name", "Watts", "Keepers"] {
                runner.emit(stages, Item::Text(format!("{name}={}", answer.property(name).text()))).await?;
            }
            runner.emit(stages, Item::Text(format!("Code has {} characters", code.chars().count()))).await
        }
        "show-secret" => {
            let secret = arguments.get("value", 0).cloned().unwrap_or(Item::Nothing);
            let text = runner.opened(&secret);
            runner.emit(stages, Item::Text(text)).await
        }
        "get-secret" => {
            let mut random = [0; 4];
            lantern_keys::RandomSource::fill(&mut SystemRandom, &mut random);
            let secret = runner.sealed("high water").await?;
            runner.emit(stages, secret).await
        }
        "get-credential" => {
            let user = arguments.text_or_none("username", 0);
            let message = arguments.text("message", 1).unwrap_or_else(|| "Enter your credentials.".into());
            let answer = runner
                .call(24, "PromptForCredential1", true, |_| {
                    vec!["Credential request".into(), message.into(), user.into(), "".into()]
                })
                .await?;
            let password = runner.opened(&answer.property("Password"));
            let text = format!(
                "{} with {} characters",
                answer.property("UserName").text(),
                password.chars().count()
            );
            runner.emit(stages, Item::Text(text)).await
        }
        "confirm-lamp" => {
            let default = i32::try_from(arguments.number("default", 0).unwrap_or(1)).unwrap_or(1);
            let answer = runner
                .call(26, "PromptForChoice", true, |objects| {
                    let choices = choices(
                        objects,
                        &[("&Yes", "Put it out"), ("&No", "Leave it lit"), ("&Suspend", "")],
                    );
                    vec!["Put the lamp out?".into(), "Ships may be near.".into(), choices, default.into()]
                })
                .await?;
            runner.emit(stages, Item::Text(format!("chosen {}", answer.text()))).await
        }
        "select-lamp" => {
            let answer = runner
                .call(56, "PromptForChoiceMultipleSelection", true, |objects| {
                    let choices = choices(objects, &LAMPS);
                    let defaults = objects.list(vec![0.into()]);
                    vec!["Which lamps?".into(), "".into(), choices, defaults]
                })
                .await?;
            runner.emit(stages, Item::Text(format!("chosen {}", answer.text()))).await
        }
        _ => Err(Trouble::unknown(name).into()),
    }
}
