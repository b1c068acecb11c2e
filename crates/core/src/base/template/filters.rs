//! The filters of the language. Those that make more of what they get stop at a bound.

use minijinja::{Environment, Error, ErrorKind, Value, filters};

use super::MOST_BYTES;

pub(super) fn add(environment: &mut Environment<'static>) {
    environment.add_filter("upper", filters::upper);
    environment.add_filter("lower", filters::lower);
    environment.add_filter("title", filters::title);
    environment.add_filter("capitalize", filters::capitalize);
    environment.add_filter("trim", filters::trim);
    environment.add_filter("split", filters::split);
    environment.add_filter("lines", filters::lines);
    environment.add_filter("int", filters::int);
    environment.add_filter("float", filters::float);
    environment.add_filter("abs", filters::abs);
    environment.add_filter("round", filters::round);
    environment.add_filter("first", filters::first);
    environment.add_filter("last", filters::last);
    environment.add_filter("min", filters::min);
    environment.add_filter("max", filters::max);
    environment.add_filter("sort", filters::sort);
    environment.add_filter("list", filters::list);
    environment.add_filter("unique", filters::unique);
    environment.add_filter("reverse", filters::reverse);
    environment.add_filter("bool", filters::bool);
    environment.add_filter("items", filters::items);
    environment.add_filter("dictsort", filters::dictsort);
    environment.add_filter("select", filters::select);
    environment.add_filter("selectattr", filters::selectattr);
    environment.add_filter("reject", filters::reject);
    environment.add_filter("rejectattr", filters::rejectattr);
    environment.add_filter("map", filters::map);
    for name in ["length", "count"] {
        environment.add_filter(name, filters::length);
    }
    for name in ["default", "d"] {
        environment.add_filter(name, filters::default);
    }
    environment.add_filter("join", join);
    environment.add_filter("replace", replace);
    environment.add_filter("indent", indent);
    environment.add_filter("tojson", to_json);
    environment.add_filter("string", string);
    environment.add_filter("times", times);
}

fn too_long() -> Error {
    Error::new(ErrorKind::InvalidOperation, format!("it gives more than {MOST_BYTES} bytes"))
}

/// A text that grows up to the bound.
struct Growing(String);

impl std::fmt::Write for Growing {
    fn write_str(&mut self, text: &str) -> std::fmt::Result {
        if self.0.len() + text.len() > MOST_BYTES {
            return Err(std::fmt::Error);
        }
        self.0.push_str(text);
        Ok(())
    }
}

/// A value as text.
fn string(value: &Value) -> Result<String, Error> {
    let mut text = Growing(String::new());
    std::fmt::write(&mut text, format_args!("{value}")).map_err(|_| too_long())?;
    Ok(text.0)
}

/// The items of a list with a text between them.
fn join(value: &Value, between: Option<String>) -> Result<String, Error> {
    let between = between.unwrap_or_default();
    let mut text = Growing(String::new());
    for (index, item) in value.try_iter()?.enumerate() {
        let written = if index > 0 {
            std::fmt::write(&mut text, format_args!("{between}{item}"))
        } else {
            std::fmt::write(&mut text, format_args!("{item}"))
        };
        written.map_err(|_| too_long())?;
    }
    Ok(text.0)
}

/// A text with every `from` in it replaced.
fn replace(text: String, from: String, to: String) -> Result<String, Error> {
    if from.is_empty() {
        return Err(Error::new(ErrorKind::InvalidOperation, "there is nothing to be replaced"));
    }
    let found = text.matches(&from).count();
    let grows = to.len().saturating_sub(from.len());
    if text.len() + found.saturating_mul(grows) > MOST_BYTES {
        return Err(too_long());
    }
    Ok(text.replace(&from, &to))
}

/// A text with every line but the first, or every line, indented.
fn indent(text: String, width: usize, first: Option<bool>) -> Result<String, Error> {
    let lines = text.lines().count();
    if width.saturating_mul(lines + 1) + text.len() > MOST_BYTES {
        return Err(too_long());
    }
    let blanks = " ".repeat(width);
    let all = text.split_inclusive('\n').enumerate().map(|(index, line)| {
        let is_indented =
            (index > 0 || first == Some(true)) && !line.trim_end_matches(['\r', '\n']).is_empty();
        if is_indented { format!("{blanks}{line}") } else { line.to_owned() }
    });
    Ok(all.collect())
}

/// A value as JSON.
fn to_json(value: &Value) -> Result<String, Error> {
    struct Bounded(Vec<u8>);
    impl std::io::Write for Bounded {
        fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
            if self.0.len() + bytes.len() > MOST_BYTES {
                return Err(std::io::ErrorKind::FileTooLarge.into());
            }
            self.0.extend_from_slice(bytes);
            Ok(bytes.len())
        }
        fn flush(&mut self) -> std::io::Result<()> {
            Ok(())
        }
    }
    let mut json = Bounded(Vec::new());
    serde_json::to_writer(&mut json, value)
        .map_err(|error| Error::new(ErrorKind::InvalidOperation, error.to_string()))?;
    String::from_utf8(json.0).map_err(|error| Error::new(ErrorKind::InvalidOperation, error.to_string()))
}

/// A number times another: the operator of that name would repeat texts.
fn times(one: i64, other: i64) -> Result<i64, Error> {
    let too_large = || Error::new(ErrorKind::InvalidOperation, "the product is too large");
    one.checked_mul(other).ok_or_else(too_large)
}
