//! Settings and answer files as they are read.

use std::collections::BTreeMap;

use jiff::Timestamp;
use lastmile_core::{
    base::Fault,
    model::{
        answers::{PasswordInput, PasswordShown, Question, Settings},
        image::Family,
    },
};
use serde::{Deserialize, Serialize};

/// Settings of a layer at one version. Passwords are never read back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct AnswersView {
    /// The answers' name; `site:`, `label:NAME` or `machine:NAME` for another layer.
    pub name: String,
    /// The version's number.
    pub version: u32,
    /// When it was saved.
    #[schema(value_type = String, format = DateTime)]
    pub created: Timestamp,
    /// The settings.
    pub settings: Settings<PasswordShown>,
}

/// What an answer file is wanted for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct AnswersPreviewRequest {
    /// The machine; an example if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// The image; the first that the answers name if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
    /// The version of the answers; the current one if left out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub version: Option<u32>,
    /// Settings that are not saved yet, to be taken in the place of the layer's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub draft: Option<Settings<PasswordInput>>,
    /// Answers to questions, by name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub asked: BTreeMap<String, String>,
}

/// The answer files of one machine, with what is secret left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct AnswersPreview {
    /// The machine it is for.
    pub machine: String,
    /// The image it is for.
    pub image: Option<String>,
    /// The installer's format.
    pub family: Family,
    /// The files, the main one first; none while something is wrong.
    pub files: Vec<AnswersFile>,
    /// What the layers come to, with the machine's values put in.
    pub settings: Option<Settings<PasswordShown>>,
    /// Where each value comes from, by its path: `time_zone` from `site`.
    pub origins: BTreeMap<String, String>,
    /// Questions that nobody answered; samples stand in their place.
    pub open: BTreeMap<String, Question>,
    /// What is wrong.
    pub faults: Vec<Fault>,
    /// What will hardly be what was meant.
    pub warnings: Vec<Fault>,
}

/// One file of a preview.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct AnswersFile {
    /// The name under which the installer asks for it.
    pub name: String,
    /// What it holds.
    pub text: String,
}

/// Which two are held against each other.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AnswersCompareQuery {
    /// The version on the left; the current one if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<u32>,
    /// The version on the right; the current one if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<u32>,
    /// The machine whose file is compared; the settings themselves are if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub machine: Option<String>,
    /// The machine on the right; the same if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub other: Option<String>,
    /// The image; the first that the answers name if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<String>,
}

/// Two texts, held against each other.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct AnswersComparison {
    /// What is on the left.
    pub left: String,
    /// What is on the right.
    pub right: String,
    /// The lines of both, in order.
    pub lines: Vec<ComparedLine>,
}

/// One line of two texts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct ComparedLine {
    /// Which of the two has it.
    pub side: Side,
    /// The line.
    pub text: String,
}

/// Which of two texts has a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Side {
    /// Both.
    Both,
    /// The left one alone.
    Left,
    /// The right one alone.
    Right,
}

/// What is wrong with a pair of answers and image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LintFinding {
    /// The answers' name.
    pub answers: String,
    /// The image's name.
    pub image: String,
    /// How many machines it is so with; 0 for all of them.
    pub machine_count: usize,
    /// The first of them.
    pub machines: Vec<String>,
    /// What is wrong.
    #[serde(flatten)]
    pub fault: Fault,
}

/// What came of looking at every pair of answers and image.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
pub struct LintReport {
    /// How many pairs were looked at.
    pub pairs: usize,
    /// How many machines each pair was looked at with.
    pub machines: usize,
    /// Answers that nothing names an image for.
    pub unpaired: Vec<String>,
    /// What is wrong.
    pub findings: Vec<LintFinding>,
}

/// Answers to questions of an install, by their names.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, utoipa::ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskedRequest {
    /// Answers, by the names of the questions.
    pub asked: BTreeMap<String, String>,
}
