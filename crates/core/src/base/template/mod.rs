//! Texts with values in them, whoever wrote them: bounded in steps and in memory.
//!
//! The engine counts steps, not bytes, so whatever lets a short text grow without bound is left out of the language: macros,
//! recursion, blocks that are kept, variables made of variables, and repetition of texts. Filters that grow are ours and
//! stop at [`MOST_BYTES`]; what is written out stops at the limit of whoever renders.

use std::io;

use minijinja::{
    AutoEscape, Environment, Error, ErrorKind, Expression, UndefinedBehavior, Value, functions, tests,
};
pub(crate) use scan::{Statements, outside_quotes};

mod filters;
mod scan;

/// Largest text or list that a filter may give, in bytes or items.
pub(crate) const MOST_BYTES: usize = 1 << 20;

/// The language, for texts that may take so many steps.
pub(crate) fn environment(fuel: u64) -> Environment<'static> {
    let mut environment = Environment::empty();
    environment.set_undefined_behavior(UndefinedBehavior::Strict);
    environment.set_auto_escape_callback(|_| AutoEscape::None);
    environment.set_fuel(Some(fuel));
    environment.set_recursion_limit(16);
    environment.add_function("range", functions::range);
    filters::add(&mut environment);
    add_tests(&mut environment);
    environment
}

fn add_tests(environment: &mut Environment<'static>) {
    environment.add_test("defined", tests::is_defined);
    environment.add_test("undefined", tests::is_undefined);
    environment.add_test("none", tests::is_none);
    environment.add_test("boolean", tests::is_boolean);
    environment.add_test("odd", tests::is_odd);
    environment.add_test("even", tests::is_even);
    environment.add_test("divisibleby", tests::is_divisibleby);
    environment.add_test("number", tests::is_number);
    environment.add_test("integer", tests::is_integer);
    environment.add_test("float", tests::is_float);
    environment.add_test("string", tests::is_string);
    environment.add_test("sequence", tests::is_sequence);
    environment.add_test("iterable", tests::is_iterable);
    environment.add_test("mapping", tests::is_mapping);
    environment.add_test("startingwith", tests::is_startingwith);
    environment.add_test("endingwith", tests::is_endingwith);
    environment.add_test("lower", tests::is_lower);
    environment.add_test("upper", tests::is_upper);
    environment.add_test("sameas", tests::is_sameas);
    environment.add_test("in", tests::is_in);
    environment.add_test("true", tests::is_true);
    environment.add_test("false", tests::is_false);
    for name in ["eq", "equalto", "=="] {
        environment.add_test(name, tests::is_eq);
    }
    for name in ["ne", "!="] {
        environment.add_test(name, tests::is_ne);
    }
    for name in ["lt", "lessthan", "<"] {
        environment.add_test(name, tests::is_lt);
    }
    for name in ["le", "<="] {
        environment.add_test(name, tests::is_le);
    }
    for name in ["gt", "greaterthan", ">"] {
        environment.add_test(name, tests::is_gt);
    }
    for name in ["ge", ">="] {
        environment.add_test(name, tests::is_ge);
    }
}

/// Whether a text names any value at all.
pub(crate) fn is_template(text: &str) -> bool {
    ["{{", "{%", "{#"].iter().any(|mark| text.contains(mark))
}

/// Puts values into a text, up to `limit` bytes of it.
///
/// # Errors
/// What is wrong with it: a construct that is left out, a name that is not there, or that it is too long.
pub(crate) fn render(
    environment: &Environment<'static>,
    text: &str,
    values: &Value,
    statements: Statements,
    limit: usize,
) -> Result<String, Error> {
    check(environment, text, statements)?;
    let template = environment.template_from_str(text)?;
    write(|out| template.render_captured_to(values, out).map(drop), limit)
}

/// That a text can be read, and holds nothing that is left out.
///
/// # Errors
/// What is wrong with it, and where.
pub(crate) fn check(
    environment: &Environment<'static>,
    text: &str,
    statements: Statements,
) -> Result<(), Error> {
    // First, as the engine itself is led astray by a tag that is too deep.
    scan::check(text, statements)?;
    environment.template_from_str(text).map(drop)
}

/// Reads an expression, which stands without brackets around it.
///
/// # Errors
/// What is wrong with it, or left out of the language.
pub(crate) fn expression(
    environment: &'static Environment<'static>,
    text: &str,
    statements: Statements,
) -> Result<Expression<'static, 'static>, Error> {
    // The engine gives up altogether on one that ends before its text does.
    if scan::closes_early(text) {
        return Err(Error::new(ErrorKind::SyntaxError, "a bracket is closed that was not opened"));
    }
    check(environment, &format!("{{{{ {text} }}}}"), statements)?;
    environment.compile_expression_owned(text.to_owned())
}

/// What `render` writes, up to `limit` bytes.
///
/// # Errors
/// What it gave, or that it is too long.
pub(crate) fn write(
    render: impl FnOnce(&mut Bounded) -> Result<(), Error>,
    limit: usize,
) -> Result<String, Error> {
    let mut out = Bounded { bytes: Vec::new(), limit, is_full: false };
    let rendered = render(&mut out);
    if out.is_full {
        return Err(Error::new(ErrorKind::InvalidOperation, format!("it gives more than {limit} bytes")));
    }
    rendered?;
    String::from_utf8(out.bytes).map_err(|error| Error::new(ErrorKind::InvalidOperation, error.to_string()))
}

/// Takes so many bytes and no more.
#[derive(Debug)]
pub(crate) struct Bounded {
    bytes: Vec<u8>,
    limit: usize,
    is_full: bool,
}

impl io::Write for Bounded {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if self.bytes.len() + bytes.len() > self.limit {
            self.is_full = true;
            return Err(io::ErrorKind::FileTooLarge.into());
        }
        self.bytes.extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod bombs;
