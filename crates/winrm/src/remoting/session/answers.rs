//! What we answer to what a machine asks of our terminal (MS-PSRP 2.2.2.28).

use lantern_keys::SecretString;

use super::{Key, Session};
use crate::remoting::host_call::{CallNumber, Fact, HostAsks, HostCall};
use crate::remoting::message::MessageKind;
use crate::remoting::objects::{Object, Objects, Primitive, Value};

/// An answer.
#[derive(Debug)]
pub enum HostAnswer {
    /// A line.
    Line(String),
    /// A line that nobody saw.
    Secret(SecretString),
    /// Values by their names.
    Fields(Vec<(String, FieldAnswer)>),
    /// A user and a password.
    Credential(String, SecretString),
    /// One of the choices, by place.
    Choice(usize),
    /// Several of them.
    Choices(Vec<usize>),
    /// A key.
    Key(char),
    /// None, for this reason.
    Refused(&'static str),
}

/// The value of a field.
#[derive(Debug)]
pub enum FieldAnswer {
    /// Text.
    Text(String),
    /// Text that nobody saw.
    Secret(SecretString),
    /// A user and a password.
    Credential(String, SecretString),
    /// Several texts.
    Several(Vec<String>),
}

/// Questions whose answer nobody waits for carry this number (MS-PSRP 2.2.2.27).
const UNANSWERED: i64 = -100;
const NOT_HERE: &str = "this terminal cannot do that";

impl HostAnswer {
    fn has_secret(&self) -> bool {
        match self {
            Self::Secret(_) | Self::Credential(..) => true,
            Self::Fields(fields) => fields
                .iter()
                .any(|(_, field)| matches!(field, FieldAnswer::Secret(_) | FieldAnswer::Credential(..))),
            _ => false,
        }
    }
}

impl Session {
    /// Answers what was asked. Secrets leave once there is a key for them, which this asks for.
    ///
    /// # Errors
    /// No key could be made.
    pub fn answer(&mut self, call: &HostCall, answer: HostAnswer) -> Result<(), super::RemotingError> {
        if let Some(running) = &mut self.running {
            running.asks = running.asks.saturating_sub(1);
        }
        if answer.has_secret() && !matches!(self.key, Key::Known(_)) {
            self.unsealed.push((call.number, call.method, answer));
            return self.want_key();
        }
        self.write_answer(call.number, call.method, answer);
        Ok(())
    }

    pub(super) fn write_answer(&mut self, number: CallNumber, method: i32, answer: HostAnswer) {
        let mut objects = Objects::default();
        let written = match answer {
            HostAnswer::Line(line) => Ok(line.into()),
            HostAnswer::Secret(secret) => Ok(self.sealed(&secret).unwrap_or(Value::Nil)),
            HostAnswer::Fields(fields) => {
                let entries = fields.into_iter();
                let entries = entries.map(|(name, field)| (name.into(), self.field(&mut objects, field)));
                let entries = entries.collect();
                Ok(objects.dictionary(entries))
            }
            HostAnswer::Credential(user, password) => Ok(self.credential(&mut objects, &user, &password)),
            HostAnswer::Choice(place) => Ok(i32::try_from(place).unwrap_or(0).into()),
            HostAnswer::Choices(places) => {
                let places = places.into_iter().map(|place| i32::try_from(place).unwrap_or(0).into());
                Ok(objects.list(places.collect()))
            }
            HostAnswer::Key(key) => {
                let unit = key.encode_utf16(&mut [0; 2]).first().copied().unwrap_or_default();
                let number = i32::from(unit);
                Ok(objects.bag([
                    ("virtualKeyCode", number.into()),
                    ("character", Value::Primitive(Primitive::Char(unit))),
                    ("controlKeyState", 0.into()),
                    ("keyDown", true.into()),
                ]))
            }
            HostAnswer::Refused(why) => Err(why),
        };
        self.respond(objects, number, method, written);
    }

    fn field(&self, objects: &mut Objects, field: FieldAnswer) -> Value {
        match field {
            FieldAnswer::Text(text) => text.into(),
            FieldAnswer::Secret(secret) => self.sealed(&secret).unwrap_or(Value::Nil),
            FieldAnswer::Credential(user, password) => self.credential(objects, &user, &password),
            FieldAnswer::Several(all) => objects.list(all.into_iter().map(Value::from).collect()),
        }
    }

    fn credential(&self, objects: &mut Objects, user: &str, password: &SecretString) -> Value {
        let password = self.sealed(password).unwrap_or(Value::Nil);
        objects.add(Object {
            types: ["System.Management.Automation.PSCredential", "System.Object"].map(str::to_owned).into(),
            text: Some("System.Management.Automation.PSCredential".to_owned()),
            properties: vec![("UserName".to_owned(), user.into()), ("Password".to_owned(), password)],
            ..Object::default()
        })
    }

    fn respond(
        &mut self,
        mut objects: Objects,
        number: CallNumber,
        method: i32,
        answer: Result<Value, &'static str>,
    ) {
        let name = objects.enumeration(
            "System.Management.Automation.Remoting.RemoteHostMethodId",
            &format!("Method{method}"),
            method,
        );
        let mut members = vec![("ci", number.0.into()), ("mi", name)];
        members.push(match answer {
            Ok(value) => ("mr", value),
            Err(why) => ("me", error(&mut objects, why)),
        });
        let root = objects.bag(members);
        let data = objects.write(&root);
        self.say_to_pipeline(MessageKind::PipelineHostResponse, data, true);
    }

    /// Answers what we know without asking anybody; whether that was all.
    pub(super) fn answers_itself(&mut self, call: &HostCall) -> bool {
        let mut objects = Objects::default();
        let answer = match &call.asks {
            HostAsks::Fact(fact) => Ok(self.fact(&mut objects, *fact)),
            HostAsks::Unknown => Err(NOT_HERE),
            HostAsks::Nothing => return true,
            _ => return false,
        };
        if call.number.0 != UNANSWERED {
            self.respond(objects, call.number, call.method, answer);
        }
        true
    }

    fn fact(&mut self, objects: &mut Objects, fact: Fact) -> Value {
        let pair = |objects: &mut Objects, names: [&str; 2], values: [u16; 2]| {
            let [first, second] = values.map(|value| Value::from(i32::from(value)));
            objects.bag([(names[0], first), (names[1], second)])
        };
        let typed =
            |objects: &mut Objects, name: &str, value: Value| objects.bag([("T", name.into()), ("V", value)]);
        match fact {
            Fact::Name => "Brass Lantern".into(),
            Fact::Version => Value::Primitive(Primitive::Version("1.0".into())),
            Fact::Instance => Value::Primitive(Primitive::Guid(super::id_text(&self.id).to_lowercase())),
            Fact::Culture => "en-US".into(),
            Fact::Foreground => typed(objects, "System.ConsoleColor", 7.into()),
            Fact::Background => typed(objects, "System.ConsoleColor", 0.into()),
            Fact::Place => {
                let place = pair(objects, ["x", "y"], [0, 0]);
                typed(objects, "System.Management.Automation.Host.Coordinates", place)
            }
            Fact::CursorSize => 25.into(),
            Fact::Size => {
                let size = pair(objects, ["width", "height"], [self.host.width, self.host.height]);
                typed(objects, "System.Management.Automation.Host.Size", size)
            }
            Fact::Title => self.host.title.as_str().into(),
            Fact::No => false.into(),
        }
    }
}

/// An error, as an answer has it (MS-PSRP 2.2.3.15).
fn error(objects: &mut Objects, why: &str) -> Value {
    let exception = objects.add(Object {
        types: ["System.NotImplementedException", "System.Exception", "System.Object"]
            .map(str::to_owned)
            .into(),
        text: Some(why.to_owned()),
        properties: vec![("Message".to_owned(), why.into())],
        ..Object::default()
    });
    let members = vec![
        ("Exception".to_owned(), exception),
        ("TargetObject".to_owned(), Value::Nil),
        ("FullyQualifiedErrorId".to_owned(), "NotAvailable".into()),
        ("ErrorCategory_Category".to_owned(), 11.into()),
        ("ErrorCategory_Activity".to_owned(), "".into()),
        ("ErrorCategory_Reason".to_owned(), "NotImplementedException".into()),
        ("ErrorCategory_TargetName".to_owned(), "".into()),
        ("ErrorCategory_TargetType".to_owned(), "".into()),
        ("ErrorCategory_Message".to_owned(), why.into()),
        ("SerializeExtendedInfo".to_owned(), false.into()),
    ];
    objects.add(Object {
        types: ["System.Management.Automation.ErrorRecord", "System.Object"].map(str::to_owned).into(),
        text: Some(why.to_owned()),
        members,
        ..Object::default()
    })
}
