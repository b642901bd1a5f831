//! What somebody wants run in a session, as a pipeline.

use lantern_winrm::remoting::{Argument, Command, Parameter, Pipeline, Primitive};

use super::plain_commands;

/// A value for a parameter: it is bound there, and never becomes a part of the text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BoundArgument {
    /// The parameter.
    pub name: String,
    /// Its value; none: it is switched on.
    pub value: Option<String>,
}

/// How what comes out is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shown {
    /// Objects, as they are.
    Objects,
    /// Text, which the machine's own formatter makes of them, as wide as this.
    Text {
        /// In columns.
        width: u16,
    },
}

/// What is to run.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Task {
    /// The text: a script, or commands.
    pub text: String,
    /// Values for its parameters; of several commands, those of the first.
    pub arguments: Vec<BoundArgument>,
    /// Whether the endpoint is one that somebody named: it may take no scripts, and commands that are no more go there as such.
    pub is_named_endpoint: bool,
}

impl Task {
    /// Whether the text has a use for what is given to it. A script that names neither its input nor a block for each object of it has none; commands do.
    pub fn uses_input(&self) -> bool {
        let text = self.text.to_lowercase();
        ["$input", "$_", "$psitem", "process"].iter().any(|name| text.contains(name))
            || plain_commands(&self.text).is_ok()
    }

    /// The pipeline. What is given goes to the first command: a script hands it on only where it names it, so commands that are no more than that go as such.
    pub fn pipeline(&self, shown: Shown, has_input: bool) -> Pipeline {
        let plain = plain_commands(&self.text).ok().filter(|_| self.is_named_endpoint || has_input);
        let mut commands = plain.unwrap_or_else(|| vec![Command::script(&self.text)]);
        if let Some(first) = commands.first_mut() {
            first.parameters.extend(self.arguments.iter().map(|argument| {
                let value = match &argument.value {
                    Some(value) => Primitive::String(value.clone()),
                    None => Primitive::Bool(true),
                };
                Parameter { name: Some(argument.name.clone()), value: Argument::One(value) }
            }));
        }
        if let Shown::Text { width } = shown {
            let formatter = Command::named(FORMATTER)
                .with("Stream", Primitive::Bool(true))
                .with("Width", Primitive::I32(width.into()));
            commands.push(formatter);
        }
        Pipeline { commands, has_input, in_history: false }
    }
}

/// The machine's own formatter.
pub(super) const FORMATTER: &str = "Out-String";

#[cfg(test)]
mod tests {
    use super::*;

    fn task(text: &str, is_named_endpoint: bool) -> Task {
        let argument = BoundArgument { name: "name".into(), value: Some("'; Remove-Lamp *".into()) };
        Task { text: text.into(), arguments: vec![argument], is_named_endpoint }
    }

    #[test]
    fn a_text_goes_as_a_script_or_as_commands_and_values_beside_it() {
        for (text, named, has_input, scripts) in [
            ("Get-Lamp", false, false, true),
            ("Get-Lamp", true, false, false),
            ("Get-Lamp", false, true, false),
            ("Get-Lamp; whoami", true, true, true),
        ] {
            let pipeline = task(text, named).pipeline(Shown::Text { width: 80 }, has_input);
            assert_eq!(pipeline.commands.len(), 2);
            assert_eq!(pipeline.commands[0].is_script, scripts, "{text} {named} {has_input}");
            assert_eq!(pipeline.commands[0].text, text);
            assert_eq!(pipeline.commands[0].parameters.len(), 1);
            assert_eq!(pipeline.has_input, has_input);
        }
        assert_eq!(task("whoami", false).pipeline(Shown::Objects, false).commands.len(), 1);
    }

    #[test]
    fn input_is_read_where_there_is_a_use_for_it() {
        for (text, uses) in [
            ("Sort-Object", true),
            ("$input | Sort-Object; whoami", true),
            ("process { $_.Length }", true),
            ("Get-Lamp; whoami", false),
            ("if ($true) { whoami }", false),
        ] {
            assert_eq!(task(text, false).uses_input(), uses, "{text}");
        }
    }
}
