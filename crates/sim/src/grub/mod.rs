//! Reads and carries out menus in GRUB's language (GNU GRUB manual, chapter 6), as far as ours need it.
//!
//! Without IO: [`Script::run`] says which module it wants loaded, if any; the caller tries, and runs it again
//! with what came of it.

mod parse;

use std::collections::HashMap;

use crate::SimError;

/// A parsed menu file.
#[derive(Debug)]
pub struct Script(Vec<Statement>);

#[derive(Debug, Clone)]
enum Statement {
    Command { line: usize, words: Vec<Word> },
    If { branches: Vec<(Vec<Statement>, Vec<Statement>)>, otherwise: Vec<Statement> },
    For { name: String, words: Vec<Word>, body: Vec<Statement> },
    While { line: usize, condition: Vec<Statement>, body: Vec<Statement> },
    Entry { title: Word, id: Option<Word>, body: Vec<Statement>, is_menu: bool },
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Piece {
    Text(String),
    Variable(String),
}

type Word = Vec<Piece>;

/// What the loader knows and can do.
#[derive(Debug, Clone, Default)]
pub struct Environment {
    /// Variables set before the file is read: `grub_platform`, and `lockdown` under Secure Boot.
    pub variables: HashMap<String, String>,
    /// Modules that were tried, and whether they could be loaded.
    pub modules: HashMap<String, bool>,
}

/// What came of running a menu file.
#[derive(Debug, PartialEq, Eq)]
pub enum Run {
    /// It wants this module; try to load it, note the outcome in the environment, and run again.
    Wants(String),
    /// The menu.
    Menu(Menu),
}

/// What the person at the machine sees, and what the default does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Menu {
    /// The entries' titles.
    pub titles: Vec<String>,
    /// Number of the default entry.
    pub default: usize,
    /// Seconds until it starts; negative waits for a person.
    pub timeout_secs: i64,
    /// What each entry does.
    pub actions: Vec<Action>,
    /// Variables that what an entry reads from another file sees.
    pub exported: HashMap<String, String>,
}

/// What an entry does in the end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Action {
    /// Starts a kernel.
    Kernel {
        /// Device and path, as in `(http,192.0.2.2)/boot/linux`.
        kernel: String,
        /// The kernel's parameters.
        parameters: Vec<String>,
        /// Device and path of each initrd.
        initrds: Vec<String>,
    },
    /// Gives control back to the firmware, or starts the disk's own loader.
    LocalDisk,
    /// Hands over to another program, by device and path.
    Program(String),
    /// Reads what it starts from another file, by device and path.
    Source(String),
    /// The same again and again, until there is something to start or somebody at the machine ends it.
    Again(String),
    /// Opens further entries.
    Entries,
    /// Restarts, switches off, or opens the firmware's set-up.
    Leave(String),
}

impl Script {
    /// Parses a menu file.
    ///
    /// # Errors
    /// [`SimError::Menu`] with the line.
    pub fn parse(text: &str) -> Result<Self, SimError> {
        parse::statements(text).map(Self)
    }

    /// Runs the file, and then, for the menu, the body of each entry.
    ///
    /// # Errors
    /// [`SimError::Menu`] for a command that is not known here.
    pub fn run(&self, environment: &Environment) -> Result<Run, SimError> {
        let mut machine = Interpreter {
            variables: environment.variables.clone(),
            modules: &environment.modules,
            entries: Vec::new(),
            exported: Vec::new(),
            action: None,
            loaded: None,
        };
        if let Err(stop) = machine.block(&self.0) {
            return stop.into_run();
        }
        let number = |name: &str| machine.variables.get(name).and_then(|text| text.parse::<i64>().ok());
        let by_id = machine
            .variables
            .get("default")
            .and_then(|id| machine.entries.iter().position(|entry| entry.id.as_ref() == Some(id)));
        let by_number = number("default").and_then(|number| usize::try_from(number).ok());
        let default = by_id.or(by_number).unwrap_or(0);
        let timeout_secs = number("timeout").unwrap_or(5);
        let entries = std::mem::take(&mut machine.entries);
        let seen: HashMap<String, String> = environment
            .variables
            .iter()
            .chain(machine.variables.iter().filter(|(name, _)| machine.exported.contains(name)))
            .map(|(name, value)| (name.clone(), value.clone()))
            .collect();
        let mut menu =
            Menu { titles: Vec::new(), default, timeout_secs, actions: Vec::new(), exported: seen.clone() };
        for Entry { title, body, is_menu, .. } in entries {
            if is_menu {
                menu.titles.push(title);
                menu.actions.push(Action::Entries);
                continue;
            }
            let mut inner = Interpreter {
                variables: seen.clone(),
                modules: &environment.modules,
                entries: Vec::new(),
                exported: Vec::new(),
                action: None,
                loaded: None,
            };
            if let Err(stop) = inner.block(&body) {
                return stop.into_run();
            }
            menu.titles.push(title);
            // An entry that loaded a kernel starts it when its body has ended.
            menu.actions.push(inner.action.or(inner.loaded).unwrap_or(Action::LocalDisk));
        }
        Ok(Run::Menu(menu))
    }

    /// Runs a file that an entry reads with `source`, where the variables of [`Menu::exported`] are seen; gives what it starts,
    /// if anything.
    ///
    /// # Errors
    /// [`SimError::Menu`] for a command that is not known here.
    pub fn start(&self, exported: &HashMap<String, String>) -> Result<Option<Action>, SimError> {
        let mut machine = Interpreter {
            variables: exported.clone(),
            modules: &HashMap::new(),
            entries: Vec::new(),
            exported: Vec::new(),
            action: None,
            loaded: None,
        };
        match machine.block(&self.0) {
            Ok(_) => Ok(machine.action.or(machine.loaded)),
            Err(Stop::Wants(module)) => {
                Err(SimError::Menu { line: 0, what: format!("the module {module} is wanted after the menu") })
            }
            Err(Stop::Error(error)) => Err(error),
        }
    }
}

enum Stop {
    Wants(String),
    Error(SimError),
}

impl Stop {
    fn into_run(self) -> Result<Run, SimError> {
        match self {
            Self::Wants(module) => Ok(Run::Wants(module)),
            Self::Error(error) => Err(error),
        }
    }
}

struct Entry {
    title: String,
    id: Option<String>,
    body: Vec<Statement>,
    is_menu: bool,
}

struct Interpreter<'a> {
    variables: HashMap<String, String>,
    modules: &'a HashMap<String, bool>,
    entries: Vec<Entry>,
    exported: Vec<String>,
    /// Set by what ends an entry.
    action: Option<Action>,
    /// A kernel that waits to be started.
    loaded: Option<Action>,
}

impl Interpreter<'_> {
    /// Runs a block; gives whether its last command succeeded.
    fn block(&mut self, statements: &[Statement]) -> Result<bool, Stop> {
        let mut good = true;
        for statement in statements {
            if self.action.is_some() {
                break;
            }
            good = match statement {
                Statement::Command { line, words } => self.command(*line, words)?,
                Statement::Entry { title, id, body, is_menu } => {
                    let (title, id) = (self.expand(title), id.as_ref().map(|id| self.expand(id)));
                    self.entries.push(Entry { title, id, body: body.clone(), is_menu: *is_menu });
                    true
                }
                Statement::If { branches, otherwise } => self.branch(branches, otherwise)?,
                Statement::For { name, words, body } => {
                    for word in words {
                        let value = self.expand(word);
                        self.variables.insert(name.clone(), value);
                        self.block(body)?;
                    }
                    true
                }
                Statement::While { line, condition, body } => {
                    self.block(condition)?;
                    self.block(body)?;
                    match self.action.take() {
                        Some(Action::Source(path)) => self.action = Some(Action::Again(path)),
                        _ => return Err(unknown(*line, "a loop that does not read another file")),
                    }
                    true
                }
            };
        }
        Ok(good)
    }

    fn branch(
        &mut self,
        branches: &[(Vec<Statement>, Vec<Statement>)],
        otherwise: &[Statement],
    ) -> Result<bool, Stop> {
        for (condition, body) in branches {
            if self.block(condition)? {
                return self.block(body);
            }
        }
        self.block(otherwise)
    }

    fn command(&mut self, line: usize, words: &[Word]) -> Result<bool, Stop> {
        let words: Vec<String> = words.iter().map(|word| self.expand(word)).collect();
        let arguments: Vec<&str> = words.iter().skip(1).map(String::as_str).collect();
        match (words.first().map_or("", String::as_str), arguments.as_slice()) {
            ("set", [assignment]) => {
                let (name, value) = assignment.split_once('=').unwrap_or((assignment, ""));
                self.variables.insert(name.into(), value.into());
            }
            ("export", [name]) => self.exported.push((*name).into()),
            // A simulated machine has no disk whose files could be seen.
            ("[", ["-f", _, "]"]) => return Ok(false),
            ("[", [left, operator, right, "]"]) => {
                return Ok(match *operator {
                    "=" | "==" => left == right,
                    "!=" => left != right,
                    other => return Err(unknown(line, &format!("test '{other}'"))),
                });
            }
            ("insmod", [module]) => {
                return self.modules.get(*module).copied().ok_or_else(|| Stop::Wants((*module).into()));
            }
            ("linux", [kernel, parameters @ ..]) => {
                self.loaded = Some(Action::Kernel {
                    kernel: (*kernel).into(),
                    parameters: parameters.iter().map(ToString::to_string).collect(),
                    initrds: Vec::new(),
                });
            }
            ("initrd", files) => match &mut self.loaded {
                Some(Action::Kernel { initrds, .. }) => {
                    initrds.extend(files.iter().map(ToString::to_string));
                }
                _ => return Err(unknown(line, "an initrd before its kernel")),
            },
            ("chainloader", ["+1"]) => self.loaded = Some(Action::LocalDisk),
            ("chainloader", [path]) => self.loaded = Some(Action::Program((*path).into())),
            ("source", [path]) => self.action = Some(Action::Source((*path).into())),
            ("boot", []) => self.action = self.loaded.take(),
            ("exit", _) => self.action = Some(Action::LocalDisk),
            (word @ ("reboot" | "halt" | "fwsetup"), []) => self.action = Some(Action::Leave(word.into())),
            ("echo" | "sleep" | "true" | "password_pbkdf2", _) => {}
            (word, _) => return Err(unknown(line, &format!("'{word}' with {} words", arguments.len()))),
        }
        Ok(true)
    }

    fn expand(&self, word: &Word) -> String {
        word.iter()
            .map(|piece| match piece {
                Piece::Text(text) => text.as_str(),
                Piece::Variable(name) => self.variables.get(name).map_or("", String::as_str),
            })
            .collect()
    }
}

fn unknown(line: usize, what: &str) -> Stop {
    Stop::Error(SimError::Menu { line, what: format!("{what} is not known here") })
}

#[cfg(test)]
mod tests {
    use std::{net::Ipv4Addr, time::Duration};

    use lastmile_core::{
        decide::boot::{KernelBoot, Line, LineAction, Screen, render},
        model::{
            loader::{HttpReach, Language, Reader},
            menu::After,
            parameter::{Origin, Parameter},
            service::Service,
        },
    };
    use lastmile_formats::mac::Mac;

    use super::*;

    fn rendered(title: &str, parameter: &str, http_port: u16) -> String {
        let line = |key: &str, title: &str, action| Line {
            key: key.into(),
            title: title.into(),
            path: format!("pick/{key}"),
            action,
            guard: None,
        };
        let kernel = KernelBoot {
            kernel: "boot/linux".into(),
            initrds: vec!["boot/a.gz".into(), "boot/b.gz".into()],
            parameters: vec![Parameter { word: parameter.into(), origin: Origin::Image, replaces: vec![] }],
        };
        let screen = Screen {
            why: "install 41".into(),
            title: String::new(),
            lines: vec![
                line("install", title, LineAction::Kernel(kernel)),
                line("disk", "disk", LineAction::LocalDisk),
                line("off", "off", LineAction::PowerOff),
                line("pick", "pick", LineAction::Pick),
                line("app", "app", LineAction::Program("boot/app.efi".into())),
                line("wait", "wait", LineAction::Again(Mac::new([2, 0, 0, 0, 0, 1]).unwrap())),
            ],
            default: "install".into(),
            timeout: Some(Duration::from_secs(5)),
            silent: false,
            after: After::Menu,
            left_out: vec![],
            architecture: None,
        };
        let service = Service { address: Ipv4Addr::new(192, 0, 2, 2), http_port, https_port: None };
        render(&screen, service, Reader { language: Language::Grub, http: HttpReach::AnyPort, boxed: false })
    }

    fn run(text: &str, http: bool, variables: &[(&str, &str)]) -> Menu {
        let environment = Environment {
            variables: variables.iter().map(|(n, v)| ((*n).into(), (*v).into())).collect(),
            modules: HashMap::from([("http".into(), http), ("regexp".into(), true)]),
        };
        match Script::parse(text).unwrap().run(&environment).unwrap() {
            Run::Menu(menu) => menu,
            Run::Wants(module) => panic!("wants {module}"),
        }
    }

    fn kernel(menu: &Menu) -> &str {
        match &menu.actions[0] {
            Action::Kernel { kernel, .. } => kernel,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn our_menus_come_out_as_they_went_in() {
        let hostile = r#"it's $from; `halt` "x" } \ #"#;
        let text = rendered(hostile, hostile, 8080);
        let script = Script::parse(&text).unwrap();
        assert_eq!(script.run(&Environment::default()).unwrap(), Run::Wants("http".into()));
        let menu = run(&text, true, &[("grub_platform", "efi")]);
        assert_eq!(menu.titles, [hostile, "disk", "off", "pick", "app", "wait"]);
        assert_eq!((menu.default, menu.timeout_secs), (0, 5));
        assert_eq!(
            menu.actions[0],
            Action::Kernel {
                kernel: "(http,192.0.2.2:8080)/boot/linux".into(),
                parameters: vec![hostile.into()],
                initrds: vec![
                    "(http,192.0.2.2:8080)/boot/a.gz".into(),
                    "(http,192.0.2.2:8080)/boot/b.gz".into()
                ],
            }
        );
        assert_eq!(
            menu.actions[1..],
            [
                Action::LocalDisk,
                Action::Leave("halt".into()),
                Action::Source("(http,192.0.2.2:8080)/pick/pick.grub".into()),
                Action::Program("(http,192.0.2.2:8080)/boot/app.efi".into()),
                Action::Again("(http,192.0.2.2:8080)/pick/wait.grub".into()),
            ]
        );
    }

    #[test]
    fn what_is_read_later_sees_where_the_menu_came_from() {
        let menu = run(&rendered("x", "y", 8080), true, &[]);
        let start = |text: &str| Script::parse(text).unwrap().start(&menu.exported).unwrap();
        assert_eq!(start("echo 'not yet'"), None);
        let kernel = start("linux \"$from\"'/boot/linux' a=b\nboot\n");
        let expected = Action::Kernel {
            kernel: "(http,192.0.2.2:8080)/boot/linux".into(),
            parameters: vec!["a=b".into()],
            initrds: vec![],
        };
        assert_eq!(kernel, Some(expected));
    }

    #[test]
    fn without_http_or_under_lockdown_it_is_tftp() {
        let text = rendered("x", "y", 80);
        assert_eq!(kernel(&run(&text, true, &[])), "(http,192.0.2.2)/boot/linux");
        assert_eq!(kernel(&run(&text, false, &[])), "(tftp,192.0.2.2)/boot/linux");
        assert_eq!(kernel(&run(&text, true, &[("lockdown", "y")])), "(tftp,192.0.2.2)/boot/linux");
    }

    #[test]
    fn faults_carry_their_line() {
        let error = |text: &str| match Script::parse(text).and_then(|s| s.run(&Environment::default())) {
            Err(SimError::Menu { line, .. }) => line,
            other => panic!("{other:?}"),
        };
        assert_eq!(error("set a=1\nfrobnicate x\n"), 2);
        assert_eq!(error("menuentry 'x\n"), 1);
        assert_eq!(error("\n\nif true; then\n"), 3);
    }
}
