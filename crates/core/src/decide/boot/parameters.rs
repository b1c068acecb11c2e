//! Kernel parameters from several levels, merged: the result, and the origin of each word.

use crate::model::{
    parameter::{Origin, Parameter, Said},
    values::{Bound, Values},
};

/// Merges the words of levels, given in their order, with a machine's values put in.
///
/// A later level's `key=value` takes the place of all words of that key from earlier levels; within one level a key may
/// stand several times (`console=` does). What a level does without is removed from earlier ones. What fails to fill is left out: it was
/// checked when it was saved.
#[must_use]
pub fn merge<'a>(levels: impl IntoIterator<Item = (Origin, Said<'a>)>, values: &Values) -> Vec<Parameter> {
    let values = Bound::from(values.clone());
    let mut merged: Vec<Parameter> = Vec::new();
    for (origin, said) in levels {
        merged.retain(|earlier| !said.without.iter().any(|gone| key(&earlier.word) == gone));
        let filled = said.words.iter().filter_map(|word| values.fill(word).ok());
        for word in filled.map(|word| one_word(&word)).filter(|word| !word.is_empty()) {
            let mut replaces = Vec::new();
            merged.retain(|earlier| {
                let stays = earlier.origin == origin || key(&earlier.word) != key(&word);
                if !stays {
                    replaces.push(earlier.word.clone());
                }
                stays
            });
            merged.push(Parameter { word, origin: origin.clone(), replaces });
        }
    }
    merged
}

/// Blanks would part a word for some loaders and not for others: those that a value brings become `_`, for all alike.
fn one_word(word: &str) -> String {
    word.trim().replace(char::is_whitespace, "_")
}

fn key(word: &str) -> &str {
    word.split_once('=').map_or(word, |(key, _)| key)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn later_levels_go_before_earlier_and_say_so() {
        let words = |text: &str| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
        let levels = [
            (Origin::Image, words("quiet console=tty0 console=ttyS0 ip=dhcp")),
            (Origin::Label("chart".into()), words("console=ttyS1,115200n8")),
            (Origin::Machine, words("ip={{address}}:::{{netmask}} vga=791")),
        ];
        let quiet = ["quiet".to_owned()];
        let merged = merge(
            levels.iter().map(|(origin, words)| {
                let without: &[String] = if matches!(origin, Origin::Label(_)) { &quiet } else { &[] };
                (origin.clone(), Said { words, without })
            }),
            &Values::example(),
        );
        let shown: Vec<_> = merged.iter().map(|p| format!("{} ({})", p.word, p.origin)).collect();
        assert_eq!(
            shown,
            [
                "console=ttyS1,115200n8 (label chart)",
                "ip=192.0.2.50:::255.255.255.0 (machine)",
                "vga=791 (machine)"
            ]
        );
        assert_eq!(merged[0].replaces, ["console=tty0", "console=ttyS0"]);
    }
}
