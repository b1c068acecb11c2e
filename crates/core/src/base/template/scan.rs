//! Looks into a text for what the language leaves out.

use std::collections::BTreeSet;

use minijinja::{Error, ErrorKind};

/// Which statements a text may hold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Statements {
    /// Conditions alone: for texts of one line.
    Conditions,
    /// Loops and variables as well: for whole files and parts of them.
    Loops,
}

impl Statements {
    const fn words(self) -> &'static [&'static str] {
        match self {
            Self::Conditions => &["if", "elif", "else", "endif", "raw", "endraw"],
            Self::Loops => &["if", "elif", "else", "endif", "raw", "endraw", "for", "endfor", "set"],
        }
    }
}

/// Most texts that are joined within one tag: each may be as long as what is generated without the template.
const MOST_JOINED: usize = 32;

/// Most operators of one tag: the engine goes one step deeper for each, on the stack of whoever asked.
const MOST_OPERATORS: usize = 128;

/// A tag of a text: `{{ … }}` or `{% … %}`.
#[derive(Debug)]
struct Tag<'a> {
    is_statement: bool,
    words: Vec<&'a str>,
}

/// The characters of an expression that are not in quotes, with where they stand; quotes themselves are left out, too.
pub(crate) fn outside_quotes(text: &str) -> impl Iterator<Item = (usize, char)> {
    let (mut characters, mut quote) = (text.char_indices(), None);
    std::iter::from_fn(move || {
        loop {
            let (at, character) = characters.next()?;
            match (quote, character) {
                (Some(_), '\\') => {
                    characters.next();
                }
                (Some(open), close) if open == close => quote = None,
                (Some(_), _) => {}
                (None, '\'' | '"') => quote = Some(character),
                (None, _) => return Some((at, character)),
            }
        }
    })
}

/// Whether an expression closes a bracket that it did not open.
pub(super) fn closes_early(text: &str) -> bool {
    let mut depth = 0_usize;
    for (_, character) in outside_quotes(text) {
        match character {
            '(' | '[' | '{' => depth += 1,
            ')' | ']' | '}' => match depth.checked_sub(1) {
                Some(less) => depth = less,
                None => return true,
            },
            _ => {}
        }
    }
    false
}

/// Refuses what the language leaves out.
///
/// # Errors
/// The first construct that is left out.
pub(super) fn check(text: &str, statements: Statements) -> Result<(), Error> {
    let refuse = |what: String| Err(Error::new(ErrorKind::SyntaxError, what));
    let mut variables: BTreeSet<&str> = BTreeSet::new();
    for tag in tags(text) {
        let words = &tag.words;
        let joined = words.iter().filter(|word| matches!(**word, "~" | "+")).count();
        if joined > MOST_JOINED {
            return refuse(format!("more than {MOST_JOINED} texts are joined at once"));
        }
        let is_operator = |word: &str| {
            !word.starts_with(|c: char| c.is_alphanumeric() || "_',:{}".contains(c))
                || matches!(word, "and" | "or" | "not" | "in" | "is" | "if" | "else")
        };
        if words.iter().filter(|word| is_operator(word)).count() > MOST_OPERATORS {
            return refuse(format!("a tag with more than {MOST_OPERATORS} operators"));
        }
        if words.iter().any(|word| *word == "*" || *word == "**") {
            return refuse("there is no '*': write {{ 3|times(4) }}".into());
        }
        if !tag.is_statement {
            continue;
        }
        let Some(word) = words.first() else { continue };
        if !statements.words().contains(word) {
            return refuse(format!("there is no '{word}' here; there are {}", statements.words().join(", ")));
        }
        if *word == "for" && words.contains(&"recursive") {
            return refuse("a loop cannot call itself".into());
        }
        if *word == "set" {
            let Some(place) = words.iter().position(|word| *word == "=") else {
                return refuse("a variable is set to one value, not to a block".into());
            };
            let (names, value) = words.split_at(place);
            if let Some(name) = value.iter().find(|word| variables.contains(**word)) {
                return refuse(format!("a variable cannot be made of another: '{name}'"));
            }
            variables.extend(names[1..].iter().filter(|word| is_name(word)));
        }
    }
    Ok(())
}

fn is_name(word: &str) -> bool {
    word.starts_with(|c: char| c.is_alphabetic() || c == '_')
}

/// The tags of a text that the engine can read.
fn tags(text: &str) -> Vec<Tag<'_>> {
    let mut tags = Vec::new();
    let mut rest = text;
    while let Some(start) = rest.find('{') {
        let (kind, inner) = (rest[start + 1..].chars().next(), rest.get(start + 2..).unwrap_or_default());
        rest = match kind {
            Some('#') => inner.find("#}").map_or("", |end| &inner[end + 2..]),
            Some('{' | '%') => {
                let is_statement = kind == Some('%');
                let (words, after) = words(inner, if is_statement { "%}" } else { "}}" });
                let is_raw = is_statement && words.first() == Some(&"raw");
                tags.push(Tag { is_statement, words });
                if is_raw { after_raw(after) } else { after }
            }
            _ => &rest[start + 1..],
        };
    }
    tags
}

/// What follows the end of a part that is taken as it is.
fn after_raw(text: &str) -> &str {
    for (place, _) in text.match_indices("{%") {
        let inner = text[place + 2..].trim_start_matches(['-', '+']).trim_start();
        if inner.starts_with("endraw") {
            return &text[place..];
        }
    }
    ""
}

/// The words of a tag up to its `end`, texts in quotes left out; and what follows.
fn words<'a>(text: &'a str, end: &str) -> (Vec<&'a str>, &'a str) {
    let mut words = Vec::new();
    let mut at = 0;
    while let Some(next) = text[at..].chars().next() {
        let here = &text[at..];
        if let Some(after) = here.strip_prefix(end) {
            return (words, after);
        }
        at += match next {
            '"' | '\'' => {
                words.push("''");
                quoted(here, next)
            }
            c if c.is_alphanumeric() || c == '_' => {
                let length = here.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(here.len());
                words.push(&here[..length]);
                length
            }
            // The dash or plus that trims blanks is no operator.
            '-' | '+' if at == 0 || here[1..].starts_with(end) => 1,
            c if c.is_whitespace() => c.len_utf8(),
            '*' if here.starts_with("**") => {
                words.push("**");
                2
            }
            '=' | '!' | '<' | '>' if here[1..].starts_with('=') => {
                words.push("==");
                2
            }
            c => {
                words.push(&here[..c.len_utf8()]);
                c.len_utf8()
            }
        };
    }
    (words, "")
}

/// How many bytes a text in quotes takes.
fn quoted(text: &str, quote: char) -> usize {
    let mut is_escaped = false;
    for (place, character) in text.char_indices().skip(1) {
        if !is_escaped && character == quote {
            return place + 1;
        }
        is_escaped = !is_escaped && character == '\\';
    }
    text.len()
}
