//! The text of a menu file into statements.

use super::{Piece, Statement, Word};
use crate::SimError;

/// Parses a whole file.
pub(super) fn statements(text: &str) -> Result<Vec<Statement>, SimError> {
    let (body, _) = Parser { tokens: tokens(text)?, at: 0 }.block(&[])?;
    Ok(body)
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Token {
    Word(Word),
    End,
}

struct Parser {
    tokens: Vec<(usize, Token)>,
    at: usize,
}

impl Parser {
    /// Reads statements up to one of the words in `ends`, which is consumed and given.
    fn block(&mut self, ends: &[&str]) -> Result<(Vec<Statement>, Option<String>), SimError> {
        let mut body = Vec::new();
        loop {
            let Some((line, token)) = self.tokens.get(self.at).cloned() else {
                if ends.is_empty() {
                    return Ok((body, None));
                }
                let what = format!("the end is missing: {}", ends.join(" or "));
                return Err(SimError::Menu { line: self.tokens.last().map_or(1, |(line, _)| *line), what });
            };
            let Token::Word(first) = token else {
                self.at += 1;
                continue;
            };
            match plain(&first) {
                Some(word) if ends.contains(&word) => {
                    let word = word.to_owned();
                    self.at += 1;
                    return Ok((body, Some(word)));
                }
                Some("if") => {
                    self.at += 1;
                    body.push(self.conditional()?);
                }
                Some("for") => {
                    self.at += 1;
                    body.push(self.repeated(line)?);
                }
                Some("while") => {
                    self.at += 1;
                    let (condition, _) = self.block(&["do"])?;
                    let (inner, _) = self.block(&["done"])?;
                    body.push(Statement::While { line, condition, body: inner });
                }
                Some(word @ ("menuentry" | "submenu")) => {
                    let is_menu = word == "submenu";
                    self.at += 1;
                    body.push(self.entry(line, is_menu)?);
                }
                _ => {
                    let words = self.words();
                    body.push(Statement::Command { line, words });
                }
            }
        }
    }

    fn conditional(&mut self) -> Result<Statement, SimError> {
        let mut branches = Vec::new();
        loop {
            let (condition, _) = self.block(&["then"])?;
            let (body, end) = self.block(&["elif", "else", "fi"])?;
            branches.push((condition, body));
            match end.as_deref() {
                Some("elif") => {}
                Some("else") => {
                    let (otherwise, _) = self.block(&["fi"])?;
                    return Ok(Statement::If { branches, otherwise });
                }
                _ => return Ok(Statement::If { branches, otherwise: Vec::new() }),
            }
        }
    }

    fn repeated(&mut self, line: usize) -> Result<Statement, SimError> {
        let mut words = self.words().into_iter();
        let name = words.next().as_ref().and_then(plain).map(str::to_owned);
        let (Some(name), Some("in")) = (name, words.next().as_ref().and_then(plain)) else {
            return Err(SimError::Menu { line, what: "a 'for' without name or 'in'".into() });
        };
        self.block(&["do"])?;
        let (body, _) = self.block(&["done"])?;
        Ok(Statement::For { name, words: words.collect(), body })
    }

    fn entry(&mut self, line: usize, is_menu: bool) -> Result<Statement, SimError> {
        let mut words = self.words();
        if words.pop().as_ref().and_then(plain) != Some("{") || words.is_empty() {
            return Err(SimError::Menu { line, what: "an entry without title or '{'".into() });
        }
        let (body, _) = self.block(&["}"])?;
        let id = words
            .iter()
            .position(|word| plain(word) == Some("--id"))
            .and_then(|at| words.get(at + 1).cloned());
        Ok(Statement::Entry { title: words.swap_remove(0), id, body, is_menu })
    }

    fn words(&mut self) -> Vec<Word> {
        let mut words = Vec::new();
        while let Some((_, Token::Word(word))) = self.tokens.get(self.at) {
            words.push(word.clone());
            self.at += 1;
        }
        words
    }
}

/// A word that is one bare text: only such words are keywords.
fn plain(word: &Word) -> Option<&str> {
    match word.as_slice() {
        [Piece::Text(text)] => Some(text),
        _ => None,
    }
}

fn tokens(text: &str) -> Result<Vec<(usize, Token)>, SimError> {
    let mut tokens = Vec::new();
    let mut characters = text.chars().peekable();
    let mut line = 1;
    let mut word: Option<Word> = None;
    let finish = |word: &mut Option<Word>, tokens: &mut Vec<_>, line| {
        if let Some(word) = word.take() {
            tokens.push((line, Token::Word(word)));
        }
    };
    while let Some(character) = characters.next() {
        match character {
            '\n' | ';' => {
                finish(&mut word, &mut tokens, line);
                tokens.push((line, Token::End));
                line += usize::from(character == '\n');
            }
            ' ' | '\t' => finish(&mut word, &mut tokens, line),
            '#' if word.is_none() => while characters.next_if(|next| *next != '\n').is_some() {},
            '\'' => loop {
                match characters.next() {
                    Some('\'') => break push(&mut word, ""),
                    Some(inner) => push(&mut word, inner.encode_utf8(&mut [0; 4])),
                    None => return Err(SimError::Menu { line, what: "a quote is not closed".into() }),
                }
            },
            '"' => loop {
                match characters.next() {
                    Some('"') => break push(&mut word, ""),
                    Some('$') => variable(&mut word, &mut characters),
                    Some('\\') => {
                        push(&mut word, &characters.next().map_or(String::new(), |c| c.to_string()));
                    }
                    Some(inner) => push(&mut word, inner.encode_utf8(&mut [0; 4])),
                    None => return Err(SimError::Menu { line, what: "a quote is not closed".into() }),
                }
            },
            '\\' => push(&mut word, &characters.next().map_or(String::new(), |next| next.to_string())),
            '$' => variable(&mut word, &mut characters),
            other => push(&mut word, other.encode_utf8(&mut [0; 4])),
        }
    }
    finish(&mut word, &mut tokens, line);
    Ok(tokens)
}

fn push(word: &mut Option<Word>, text: &str) {
    let word = word.get_or_insert_default();
    match word.last_mut() {
        Some(Piece::Text(last)) => last.push_str(text),
        _ => word.push(Piece::Text(text.into())),
    }
}

fn variable(word: &mut Option<Word>, characters: &mut std::iter::Peekable<std::str::Chars<'_>>) {
    let mut name = String::new();
    while let Some(next) = characters.next_if(|next| next.is_ascii_alphanumeric() || *next == '_') {
        name.push(next);
    }
    word.get_or_insert_default().push(Piece::Variable(name));
}
