//! Patterns of devices, as fnmatch(3) reads them: `*`, `?`, `[…]`, and `\` before what means itself.

/// One pattern.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pattern(Vec<Piece>);

#[derive(Debug, Clone, PartialEq, Eq)]
enum Piece {
    One(char),
    Any,
    AnyOf { ranges: Vec<(char, char)>, is_not: bool },
    Many,
}

impl Pattern {
    /// Reads a pattern. Every text is one: a bracket that is not closed means itself.
    #[must_use]
    pub fn new(text: &str) -> Self {
        let characters: Vec<char> = text.chars().collect();
        let (mut pieces, mut at) = (Vec::new(), 0);
        while let Some(character) = characters.get(at) {
            at += 1;
            pieces.push(match character {
                '*' => Piece::Many,
                '?' => Piece::Any,
                '\\' => {
                    let meant = characters.get(at).copied();
                    at += usize::from(meant.is_some());
                    Piece::One(meant.unwrap_or('\\'))
                }
                '[' => match bracket(&characters[at..]) {
                    Some((piece, length)) => {
                        at += length;
                        piece
                    }
                    None => Piece::One('['),
                },
                other => Piece::One(*other),
            });
        }
        Self(pieces)
    }

    /// Whether the whole of a text is as the pattern says.
    #[must_use]
    pub fn is_match(&self, text: &str) -> bool {
        let text: Vec<char> = text.chars().collect();
        let (mut piece, mut at) = (0, 0);
        // Where the last `*` stands, and how far it has reached: only that one has to be tried anew.
        let mut last: Option<(usize, usize)> = None;
        while at < text.len() || piece < self.0.len() {
            let fits = match self.0.get(piece) {
                Some(Piece::Many) => {
                    last = Some((piece, at));
                    piece += 1;
                    continue;
                }
                Some(Piece::Any) => at < text.len(),
                Some(Piece::One(one)) => text.get(at) == Some(one),
                Some(Piece::AnyOf { ranges, is_not }) => text.get(at).is_some_and(|one| {
                    ranges.iter().any(|(from, to)| (*from..=*to).contains(one)) != *is_not
                }),
                None => false,
            };
            if fits {
                (piece, at) = (piece + 1, at + 1);
                continue;
            }
            match last {
                Some((star, reached)) if reached < text.len() => {
                    last = Some((star, reached + 1));
                    (piece, at) = (star + 1, reached + 1);
                }
                _ => return false,
            }
        }
        true
    }
}

/// What stands in brackets, and how many characters it takes with the closing one.
fn bracket(characters: &[char]) -> Option<(Piece, usize)> {
    let is_not = matches!(characters.first(), Some('!' | '^'));
    let begin = usize::from(is_not);
    // A closing bracket that comes first means itself.
    let end = characters.iter().skip(begin + 1).position(|one| *one == ']')? + begin + 1;
    let mut ranges = Vec::new();
    let mut rest = &characters[begin..end];
    while let [from, after @ ..] = rest {
        match after {
            ['-', to, others @ ..] => {
                ranges.push((*from, *to));
                rest = others;
            }
            _ => {
                ranges.push((*from, *from));
                rest = after;
            }
        }
    }
    Some((Piece::AnyOf { ranges, is_not }, end + 1))
}
