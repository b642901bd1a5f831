//! A pipeline at work on a simulated machine.

use std::sync::PoisonError;

use lantern_winrm::Output;
use lantern_winrm::file_helper::{self, Asked};
use lantern_winrm::remoting::{Argument, MessageKind, Objects, Pipeline, Primitive, Value};

use super::commands::{self, source};
use super::item::Item;
use super::language::{Call, Statement, Word, parse};
use super::runner::Runner;
use super::stages::{Arguments, Stage, feed, finish};
use super::trouble::{End, Trouble};
use crate::windows::files::Conversation;

impl Runner {
    fn word(&self, word: &Word) -> Item {
        let variable = |name: &str| match name {
            "true" => Item::Flag(true),
            "false" => Item::Flag(false),
            "null" => Item::Nothing,
            name => self.session.lock().variables.get(name).cloned().unwrap_or(Item::Nothing),
        };
        match word {
            Word::Named(name) => Item::Text(format!("-{name}")),
            Word::Text(text) => Item::Text(text.clone()),
            Word::Number(number) => Item::Number(*number),
            Word::Variable(name, None) => variable(name),
            Word::Variable(name, Some(property)) => variable(name).property(property),
            Word::Range(from, to) => Item::List((*from..=*to).take(1_000_000).map(Item::Number).collect()),
            Word::List(words) => match words.as_slice() {
                [one] => self.word(one),
                words => Item::List(words.iter().map(|word| self.word(word)).collect()),
            },
            Word::Quoted(text) => {
                let mut out = String::new();
                let mut rest = text.as_str();
                while let Some((before, behind)) = rest.split_once('$') {
                    out.push_str(before);
                    let end = behind.find(|c: char| !c.is_alphanumeric()).unwrap_or(behind.len());
                    let (name, left) = behind.split_at(end);
                    out.push_str(&variable(&name.to_lowercase()).text());
                    rest = left;
                }
                Item::Text(out + rest)
            }
        }
    }

    fn arguments(&self, words: &[Word]) -> Arguments {
        let mut arguments = Arguments::default();
        let mut words = words.iter().peekable();
        while let Some(word) = words.next() {
            match word {
                Word::Named(name) => {
                    let takes = !commands::SWITCHES.contains(&name.as_str());
                    let value = words.next_if(|next| takes && !matches!(next, Word::Named(_)));
                    let value = value.map_or(Item::Flag(true), |value| self.word(value));
                    arguments.named.push((name.clone(), value));
                }
                word => arguments.placed.push(self.word(word)),
            }
        }
        arguments
    }

    /// One pipeline of a script.
    async fn pipeline(&mut self, calls: &[Call]) -> Result<(), End> {
        let Some((first, rest)) = calls.split_first() else { return Ok(()) };
        let calls = rest.iter().map(|call| (call.name.clone(), self.arguments(&call.words)));
        let calls: Vec<_> = calls.collect();
        let value = first.name.is_empty().then(|| first.words.first().map(|word| self.word(word))).flatten();
        let arguments = self.arguments(&first.words);
        let mut stages = Vec::new();
        for (name, arguments) in calls {
            stages.push(Stage::new(&name, &arguments).ok_or_else(|| Trouble::unknown(&name))?);
        }
        if let Some(value) = value {
            match value {
                Item::List(all) => {
                    for item in all {
                        self.emit(&mut stages, item).await?;
                    }
                }
                Item::Nothing => {}
                item => self.emit(&mut stages, item).await?,
            }
        } else {
            self.command(&first.name, &arguments, &mut stages).await?;
        }
        for item in finish(&mut stages) {
            let items = if self.kept.is_some() { vec![item] } else { feed(&mut self.behind, item) };
            self.put(items).await?;
        }
        Ok(())
    }

    /// The first command of a pipeline; one that takes what others put out takes the pipeline's input.
    async fn command(&mut self, name: &str, arguments: &Arguments, stages: &mut [Stage]) -> Result<(), End> {
        let Some(stage) = Stage::new(name, arguments) else {
            return source(self, name, arguments, stages).await;
        };
        let mut first = [stage];
        while let Some(item) = self.next_input().await? {
            for item in feed(&mut first, item) {
                self.emit(stages, item).await?;
            }
        }
        for item in finish(&mut first) {
            self.emit(stages, item).await?;
        }
        Ok(())
    }

    async fn script(&mut self, text: &str, given: &Arguments) -> Result<(), End> {
        let statements = parse(text).map_err(|wrong| Trouble::syntax(&wrong))?;
        if text.contains("$input") {
            let mut all = Vec::new();
            while let Some(item) = self.next_input().await? {
                all.push(item);
            }
            self.session.lock().variables.insert("input".into(), Item::List(all));
        }
        for (line, statement) in statements {
            let text = text.lines().nth(line - 1).unwrap_or_default().to_owned();
            self.at = (line, text);
            match statement {
                Statement::Param(names) => {
                    for (place, name) in names.iter().enumerate() {
                        let value = given.get(name, place).cloned().unwrap_or(Item::Nothing);
                        self.session.lock().variables.insert(name.to_lowercase(), value);
                    }
                }
                Statement::Assign(name, calls) => {
                    self.kept = Some(Vec::new());
                    let outcome = self.pipeline(&calls).await;
                    let mut kept = self.kept.take().unwrap_or_default();
                    outcome?;
                    let value = if kept.len() == 1 { kept.remove(0) } else { Item::List(kept) };
                    self.session.lock().variables.insert(name.to_lowercase(), value);
                }
                Statement::Throw(word) => {
                    let text = self.word(&word).text();
                    return Err(Trouble::thrown(&text).at(&self.at).into());
                }
                Statement::Exit(word) => {
                    let code = match self.word(&word) {
                        Item::Number(code) => i32::try_from(code).unwrap_or(1),
                        _ => 0,
                    };
                    self.call(6, "SetShouldExit", false, |_| vec![code.into()]).await?;
                    return Ok(());
                }
                Statement::Pipeline(calls) => {
                    let at = self.at.clone();
                    self.pipeline(&calls).await.map_err(|end| end.at(&at))?;
                }
            }
        }
        Ok(())
    }
}

/// A command's arguments, as they came.
fn bound(command: &lantern_winrm::remoting::Command) -> Arguments {
    let mut arguments = Arguments::default();
    for parameter in &command.parameters {
        let objects = Objects::default();
        let item = |primitive| Item::of(&objects, &Value::Primitive(primitive));
        let value = match parameter.value.clone() {
            Argument::Nothing => Item::Flag(true),
            Argument::One(primitive) => item(primitive),
            Argument::Several(all) => Item::List(all.into_iter().map(item).collect()),
        };
        match &parameter.name {
            Some(name) => arguments.named.push((name.to_lowercase(), value)),
            None => arguments.placed.push(value),
        }
    }
    arguments
}

/// The file service that was brought along, in pieces.
async fn files(runner: &Runner, asked: Asked) -> Result<(), End> {
    let answer = {
        let conversation = &runner.session.conversation;
        let mut conversation = conversation.lock().unwrap_or_else(PoisonError::into_inner);
        match asked {
            Asked::Defined => {
                conversation.get_or_insert_with(|| Conversation::new(runner.session.files.clone()));
                return Ok(());
            }
            Asked::Piece(piece) => conversation.as_mut().and_then(|files| files.answer(piece.into())),
        }
    };
    let answer = answer.ok_or_else(|| Trouble::thrown("the conversation about files makes no sense"))?;
    let objects = Objects::default();
    let data = objects.write(&Value::Primitive(Primitive::Bytes(answer)));
    runner.say(MessageKind::PipelineOutput, data).await
}

/// Runs a pipeline to its end, and says how that came.
pub(super) async fn run(mut runner: Runner, pipeline: Pipeline) {
    let outcome = all(&mut runner, &pipeline).await;
    let mut objects = Objects::default();
    let (state, error) = match outcome {
        Ok(()) => (4, None),
        Err(End::Stopped) => (3, Some(Trouble::stopped())),
        Err(End::Failed(trouble)) => (5, Some(*trouble)),
    };
    let error = error.map_or(Value::Nil, |error| error.value(&mut objects));
    let root = objects.bag([("PipelineState", state.into()), ("ExceptionAsErrorRecord", error)]);
    let data = objects.write(&root);
    // Also where it was interrupted: its last word.
    runner.out.calm();
    let _ = runner.say(MessageKind::PipelineState, data).await;
    runner.out.end(0);
}

async fn all(runner: &mut Runner, pipeline: &Pipeline) -> Result<(), End> {
    let Some((first, rest)) = pipeline.commands.split_first() else { return Ok(()) };
    let endpoint = runner.session.endpoint.clone();
    for command in &pipeline.commands {
        if command.is_script && endpoint.commands_only {
            return Err(Trouble::no_scripts().into());
        }
        if !command.is_script && !commands::exists(&command.text, &endpoint) {
            return Err(Trouble::unknown(&command.text).into());
        }
    }
    if let Some(asked) = file_helper::asked(pipeline) {
        return files(runner, asked).await;
    }
    for command in rest {
        let stage = Stage::new(&command.text, &bound(command));
        runner.behind.push(stage.ok_or_else(|| Trouble::unknown(&command.text))?);
    }
    let given = bound(first);
    match first.is_script {
        true => runner.script(&first.text, &given).await?,
        false => {
            let mut none = Vec::new();
            runner.command(&first.text, &given, &mut none).await?;
        }
    }
    let last = finish(&mut runner.behind);
    runner.put(last).await?;
    // What was interrupted did not end by itself.
    match runner.out.write(Output::Main, bytes::Bytes::new()).await {
        true => Ok(()),
        false => Err(End::Stopped),
    }
}
