//! What goes wrong in pipelines of a simulated machine.

use lantern_winrm::remoting::{ErrorRecord, Object, Objects, Value};

use super::language::Wrong;

/// Why a pipeline ends before its end.
#[derive(Debug)]
pub(super) enum End {
    /// It was stopped.
    Stopped,
    /// An error.
    Failed(Box<Trouble>),
}

impl From<Trouble> for End {
    fn from(trouble: Trouble) -> Self {
        Self::Failed(Box::new(trouble))
    }
}

impl End {
    pub(super) fn at(self, at: &(usize, String)) -> Self {
        match self {
            Self::Stopped => Self::Stopped,
            Self::Failed(trouble) => trouble.at(at).into(),
        }
    }
}

/// An error.
#[derive(Debug, Clone, Default)]
pub(super) struct Trouble {
    pub(super) message: String,
    pub(super) id: String,
    pub(super) category: &'static str,
    pub(super) reason: &'static str,
    pub(super) activity: String,
    pub(super) target: String,
    pub(super) at: Option<(usize, String)>,
}

impl Trouble {
    pub(super) fn new(message: String, id: &str, category: &'static str, target: &str) -> Self {
        Self { message, id: id.to_owned(), category, target: target.to_owned(), ..Self::default() }
    }

    pub(super) fn unknown(name: &str) -> Self {
        let message = format!("There is no command called '{name}' here.");
        let reason = "CommandNotFoundException";
        Self { reason, ..Self::new(message, "CommandNotFoundException", "ObjectNotFound", name) }
    }

    pub(super) fn no_scripts() -> Self {
        let message = "This endpoint takes commands with parameters, and no scripts.";
        let reason = "RemoteException";
        Self { reason, ..Self::new(message.to_owned(), "ScriptsNotAllowed", "ParserError", "") }
    }

    pub(super) fn thrown(text: &str) -> Self {
        Self { reason: "RuntimeException", ..Self::new(text.to_owned(), text, "OperationStopped", text) }
    }

    pub(super) fn stopped() -> Self {
        Self::new("The pipeline has been stopped.".to_owned(), "PipelineStopped", "OperationStopped", "")
    }

    pub(super) fn syntax(wrong: &Wrong) -> Self {
        let trouble = Self {
            reason: "ParseException",
            ..Self::new(wrong.why.clone(), "ParserError", "ParserError", "")
        };
        trouble.at(&(wrong.line, wrong.text.clone()))
    }

    /// The same, where it is not known yet where.
    pub(super) fn at(mut self, at: &(usize, String)) -> Self {
        if at.0 > 0 {
            self.at.get_or_insert_with(|| at.clone());
        }
        self
    }

    pub(super) fn value(&self, objects: &mut Objects) -> Value {
        let exception = objects.add(Object {
            types: [format!("System.Management.Automation.{}", self.reason), "System.Exception".to_owned()]
                .into(),
            text: Some(self.message.clone()),
            properties: vec![("Message".to_owned(), self.message.as_str().into())],
            ..Object::default()
        });
        let mut members: Vec<(&str, Value)> = vec![
            ("Exception", exception),
            ("TargetObject", self.target.as_str().into()),
            ("FullyQualifiedErrorId", self.id.as_str().into()),
            ("InvocationInfo", Value::Nil),
            ("ErrorCategory_Category", ErrorRecord::category_number(self.category).into()),
            ("ErrorCategory_Activity", self.activity.as_str().into()),
            ("ErrorCategory_Reason", self.reason.into()),
            ("ErrorCategory_TargetName", self.target.as_str().into()),
            ("ErrorCategory_TargetType", "String".into()),
            ("ErrorCategory_Message", "".into()),
            ("SerializeExtendedInfo", self.at.is_some().into()),
        ];
        if let Some((line, text)) = &self.at {
            let line = i32::try_from(*line).unwrap_or(0);
            let indent = text.len() - text.trim_start().len();
            let column = i32::try_from(indent + 1).unwrap_or(1);
            members.extend([
                ("InvocationInfo_ScriptLineNumber", line.into()),
                ("InvocationInfo_OffsetInLine", column.into()),
                ("InvocationInfo_ScriptName", "".into()),
                ("InvocationInfo_Line", text.as_str().into()),
            ]);
        }
        let members = members.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        objects.add(Object {
            types: ["System.Management.Automation.ErrorRecord", "System.Object"].map(str::to_owned).into(),
            text: Some(self.message.clone()),
            members,
            ..Object::default()
        })
    }
}
