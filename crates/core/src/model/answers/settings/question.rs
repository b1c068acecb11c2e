//! Settings that are left open until install time.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::base::{Fault, Faults};

/// A setting that is left open until install time.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Question {
    /// What is asked, as the person reads it.
    #[cfg_attr(feature = "schema", schema(example = "At which berth does it stand?"))]
    pub text: String,
    /// What is taken as an answer.
    #[serde(default)]
    pub kind: AnswerKind,
    /// What is proposed; it is not taken by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(example = "1"))]
    pub default: Option<String>,
}

/// What is taken as an answer.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "kebab-case")]
pub enum AnswerKind {
    /// One line of text.
    #[default]
    Text,
    /// A whole number.
    Number,
    /// `yes` or `no`.
    YesNo,
    /// One of these.
    Choice(Vec<String>),
}

/// Longest answer in characters.
const MOST: usize = 500;

impl Question {
    pub(crate) fn check(&self, key: &str, faults: &mut Faults) {
        let place = format!("questions.{key}");
        let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
        if key.is_empty() || !key.chars().all(plain) || key.starts_with(|c: char| c.is_ascii_digit()) {
            let fix = "Use letters, digits and '_', beginning with a letter: texts name it as asked.NAME.";
            faults.add(&place, format!("'{key}' is no question's name"), fix);
        }
        if self.text.trim().is_empty() || self.text.chars().any(char::is_control) {
            let fix = "Write on one line what the person is to answer.";
            faults.add(format!("{place}.text"), "empty, or with control characters", fix);
        }
        if let AnswerKind::Choice(choices) = &self.kind {
            if choices.is_empty() {
                faults.add(format!("{place}.kind"), "there is nothing to choose", "Give choices.");
            }
            if choices.iter().any(|choice| choice.is_empty() || choice.chars().any(char::is_control)) {
                faults.add(
                    format!("{place}.kind"),
                    "a choice is empty or has control characters",
                    "Give one line of text each.",
                );
            }
        }
        if let Some(default) = &self.default
            && let Err(mut fault) = self.take(default)
        {
            fault.place = format!("{place}.default");
            faults.add(fault.place, fault.what, fault.fix);
        }
    }

    /// An answer as it is kept.
    ///
    /// # Errors
    /// Why it is none; the place is left to the caller.
    pub fn take(&self, answer: &str) -> Result<String, Fault> {
        let answer = answer.trim();
        let wrong = |what: String, fix: String| Err(Fault { place: String::new(), what, fix });
        if answer.is_empty() || answer.chars().count() > MOST || answer.chars().any(char::is_control) {
            return wrong(
                "the answer is empty or too long".into(),
                "Answer with one line of at most 500 characters.".into(),
            );
        }
        match &self.kind {
            AnswerKind::Text => Ok(answer.into()),
            AnswerKind::Number => match answer.parse::<i64>() {
                Ok(number) => Ok(number.to_string()),
                Err(_) => wrong(format!("'{answer}' is no whole number"), "Answer with digits.".into()),
            },
            AnswerKind::YesNo => match answer.to_ascii_lowercase().as_str() {
                "yes" | "y" | "true" => Ok("yes".into()),
                "no" | "n" | "false" => Ok("no".into()),
                _ => wrong(format!("'{answer}' is neither yes nor no"), "Answer yes or no.".into()),
            },
            AnswerKind::Choice(choices) => {
                match choices.iter().find(|choice| choice.eq_ignore_ascii_case(answer)) {
                    Some(choice) => Ok(choice.clone()),
                    None => wrong(
                        format!("'{answer}' is not among the choices"),
                        format!("Choose {}.", choices.join(", ")),
                    ),
                }
            }
        }
    }

    /// An answer that could be given: what settings are checked with before somebody answers.
    #[must_use]
    pub fn sample(&self) -> String {
        if let Some(default) = &self.default {
            return default.clone();
        }
        match &self.kind {
            AnswerKind::Text => "answer".into(),
            AnswerKind::Number => "1".into(),
            AnswerKind::YesNo => "yes".into(),
            AnswerKind::Choice(choices) => choices.first().cloned().unwrap_or_default(),
        }
    }
}

/// Answers in the form they are kept in.
///
/// # Errors
/// Answers that fit no question or not theirs.
pub fn take_answers(
    questions: &BTreeMap<String, Question>,
    answers: &BTreeMap<String, String>,
) -> Result<BTreeMap<String, String>, Vec<Fault>> {
    let mut faults = Faults::new();
    let mut taken = BTreeMap::new();
    for (key, answer) in answers {
        let place = format!("asked.{key}");
        match questions.get(key).map(|question| question.take(answer)) {
            Some(Ok(answer)) => {
                taken.insert(key.clone(), answer);
            }
            Some(Err(fault)) => faults.add(place, fault.what, fault.fix),
            None => {
                let known: Vec<&str> = questions.keys().map(String::as_str).collect();
                let fix = if known.is_empty() {
                    "Nothing is asked.".into()
                } else {
                    format!("Questions are: {}.", known.join(", "))
                };
                faults.add(place, format!("nothing is asked under '{key}'"), fix);
            }
        }
    }
    faults.into_result(|| Some(taken))
}
