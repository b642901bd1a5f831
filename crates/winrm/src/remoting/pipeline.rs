//! A pipeline that is to run (MS-PSRP 2.2.2.10): commands with parameters, whose values never become text of a script.

use super::host::HostFacts;
use super::objects::{Content, Objects, Primitive, Value};

/// A pipeline.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Pipeline {
    /// Its commands, each of which gets what the one before it puts out.
    pub commands: Vec<Command>,
    /// Whether objects will be sent into it.
    pub has_input: bool,
    /// Whether the machine keeps it among the commands that were typed.
    pub in_history: bool,
}

/// One command.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Command {
    /// Its name; or a script.
    pub text: String,
    /// Which of both.
    pub is_script: bool,
    /// Its parameters.
    pub parameters: Vec<Parameter>,
}

/// A value that a command gets.
#[derive(Debug, Clone, PartialEq)]
pub struct Parameter {
    /// Its name; without one it is taken by its place.
    pub name: Option<String>,
    /// The value.
    pub value: Argument,
}

/// A value of a parameter.
#[derive(Debug, Clone, PartialEq)]
pub enum Argument {
    /// Nothing.
    Nothing,
    /// One.
    One(Primitive),
    /// Several.
    Several(Vec<Primitive>),
}

impl Command {
    /// A script.
    pub fn script(text: impl Into<String>) -> Self {
        Self { text: text.into(), is_script: true, parameters: Vec::new() }
    }

    /// A command by its name.
    pub fn named(name: impl Into<String>) -> Self {
        Self { text: name.into(), is_script: false, parameters: Vec::new() }
    }

    /// The same with one more parameter.
    #[must_use]
    pub fn with(mut self, name: &str, value: Primitive) -> Self {
        let (name, value) = (Some(name.to_owned()), Argument::One(value));
        self.parameters.push(Parameter { name, value });
        self
    }
}

/// Where each of a command's streams goes: nowhere else.
const MERGES: [&str; 8] = [
    "MergeMyResult",
    "MergeToResult",
    "MergePreviousResults",
    "MergeError",
    "MergeWarning",
    "MergeVerbose",
    "MergeDebug",
    "MergeInformation",
];
const RESULT_TYPES: &str = "System.Management.Automation.Runspaces.PipelineResultTypes";

impl Pipeline {
    /// The message that begins it.
    pub(super) fn written(&self, host: &HostFacts) -> String {
        let mut objects = Objects::default();
        let commands = self.commands.iter().map(|command| command.value(&mut objects)).collect();
        let commands = objects.list(commands);
        let power = objects.bag([
            ("IsNested", false.into()),
            ("ExtraCmds", Value::Nil),
            ("Cmds", commands),
            ("History", Value::Nil),
            ("RedirectShellErrorOutputPipe", false.into()),
        ]);
        let apartment = apartment(&mut objects);
        // Errors say where in a script they happened.
        let streams = objects.enumeration(
            "System.Management.Automation.RemoteStreamOptions",
            "AddInvocationInfoToErrorRecord",
            1,
        );
        let host = host.value(&mut objects);
        let root = objects.bag([
            ("NoInput", (!self.has_input).into()),
            ("ApartmentState", apartment),
            ("RemoteStreamOptions", streams),
            ("AddToHistory", self.in_history.into()),
            ("HostInfo", host),
            ("PowerShell", power),
            ("IsNested", false.into()),
        ]);
        objects.write(&root)
    }

    /// Reads it, as a machine does; nothing where it is none.
    pub fn read(objects: &Objects) -> Option<Self> {
        let root = objects.first()?;
        let power = objects.of(root.get("PowerShell")?)?;
        let flag = |name| root.get(name) == Some(&true.into());
        let commands = objects.values(power.get("Cmds")?).iter();
        Some(Self {
            commands: commands.map(|command| Command::read(objects, command)).collect::<Option<_>>()?,
            has_input: !flag("NoInput"),
            in_history: flag("AddToHistory"),
        })
    }
}

/// Whether threads share objects: the machine chooses.
pub(super) fn apartment(objects: &mut Objects) -> Value {
    objects.enumeration("System.Threading.ApartmentState", "Unknown", 2)
}

impl Command {
    fn value(&self, objects: &mut Objects) -> Value {
        let parameters = self.parameters.iter().map(|parameter| {
            let value = match &parameter.value {
                Argument::Nothing => Value::Nil,
                Argument::One(primitive) => Value::Primitive(primitive.clone()),
                Argument::Several(all) => {
                    let all = all.iter().cloned().map(Value::Primitive).collect();
                    objects.list(all)
                }
            };
            let name = parameter.name.clone().map_or(Value::Nil, Value::from);
            objects.bag([("N", name), ("V", value)])
        });
        let parameters = parameters.collect();
        let parameters = objects.list(parameters);
        let mut members = vec![
            ("Cmd", Value::from(self.text.as_str())),
            ("IsScript", self.is_script.into()),
            ("UseLocalScope", Value::Nil),
        ];
        for name in MERGES {
            members.push((name, objects.enumeration(RESULT_TYPES, "None", 0)));
        }
        members.push(("Args", parameters));
        objects.bag(members)
    }

    fn read(objects: &Objects, value: &Value) -> Option<Self> {
        let command = objects.of(value)?;
        let parameters = command.get("Args").map(|all| objects.values(all)).unwrap_or_default();
        let parameter = |value: &Value| {
            let object = objects.of(value)?;
            let name = objects.text_of(object, "N").filter(|name| !name.is_empty());
            let name = name.map(|name| name.trim_start_matches('-').trim_end_matches(':').to_owned());
            let value = object.get("V").unwrap_or(&Value::Nil);
            let one = |value: &Value| match value {
                Value::Primitive(primitive) => Some(primitive.clone()),
                Value::Nil => None,
                Value::Object(_) => match &objects.of(value)?.content {
                    Content::Primitive(primitive) => Some(primitive.clone()),
                    _ => None,
                },
            };
            let value = match (value, one(value)) {
                (_, Some(one)) => Argument::One(one),
                (Value::Nil, None) => Argument::Nothing,
                (value, None) => Argument::Several(objects.values(value).iter().filter_map(one).collect()),
            };
            Some(Parameter { name, value })
        };
        Some(Self {
            text: objects.text_of(command, "Cmd")?,
            is_script: command.get("IsScript") == Some(&true.into()),
            parameters: parameters.iter().map(parameter).collect::<Option<_>>()?,
        })
    }
}
