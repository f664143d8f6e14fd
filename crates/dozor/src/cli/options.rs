//! Options that several commands have, and what their values can be.

use crate::look::columns::ColumnSet;
use crate::look::symbols::Symbols;
use crate::look::theme::Depth;
use clap::Args;
use dozor_core::expr::{Expression, Node};
use dozor_core::rank::{Arrange, Narrowing, Order, Whose};
use dozor_core::text::nearest;
use dozor_core::units::parse_duration;
use dozor_linux::{LiveSource, Roots, own};
use std::io::{self, IsTerminal as _};
use std::path::PathBuf;
use std::time::Duration;

/// Options of every screen.
#[derive(Args)]
pub struct Look {
    /// Colours for a dark or a light background, none (mono), or your own theme by name
    #[arg(long, value_name = "THEME")]
    pub theme: Option<String>,
    /// Colours that the terminal has, where Dozor does not find out right
    #[arg(long, value_enum, value_name = "COLORS")]
    pub colors: Option<Depth>,
    /// Signs that the terminal can show; the locale says it otherwise
    #[arg(long, value_enum, value_name = "SYMBOLS")]
    pub symbols: Option<Symbols>,
    /// Leave the mouse to the terminal, so that text can be selected with it (S on the screen)
    #[arg(long)]
    pub no_mouse: bool,
    /// Order processes by one or two metrics; a minus before one puts the largest first, a plus the smallest
    #[arg(long, value_name = "ORDER", value_parser = order, allow_hyphen_values = true)]
    pub order: Option<Order>,
    /// Columns with commas between them; a width and a unit may follow behind colons, as in rss:10:MiB
    #[arg(long, value_name = "COLUMNS", value_parser = columns)]
    pub columns: Option<ColumnSet>,
    /// Arrange processes: flat, family, program, user, service, container
    #[arg(long, value_name = "ARRANGEMENT", value_parser = arrangement)]
    pub arrange: Option<Arrange>,
    /// Begin with this saved view
    #[arg(long, value_name = "NAME")]
    pub view: Option<String>,
    #[command(flatten)]
    pub kept: Kept,
}

/// Which processes are meant, by their PIDs.
#[derive(Args, Clone, Default)]
pub struct Pids {
    /// Only these processes
    #[arg(value_name = "PID", value_parser = pid)]
    pub pids: Vec<i64>,
    /// With the PIDs: also all that descend from them
    #[arg(long, requires = "pids")]
    pub descendants: bool,
}

impl Pids {
    /// Puts what was asked for into a narrowing; says whether anything was.
    pub fn apply(&self, narrowing: &mut Narrowing) -> bool {
        if !self.pids.is_empty() {
            narrowing.pids = Some(self.pids.iter().copied().collect());
            narrowing.descendants = self.descendants;
        }
        !self.pids.is_empty()
    }
}

/// Which processes are meant.
#[derive(Args, Clone)]
pub struct Whom {
    #[command(flatten)]
    pub pids: Pids,
    #[command(flatten)]
    pub kept: Kept,
}

impl Whom {
    /// A narrowing by this alone.
    pub fn narrowing(&self) -> Result<Narrowing, Misuse> {
        let mut narrowing = self.kept.narrowing()?;
        self.pids.apply(&mut narrowing);
        Ok(narrowing)
    }
}

/// Which processes are meant, by what they are.
#[derive(Args, Clone)]
pub struct Kept {
    /// Only processes that an expression holds for (docs/expressions.md)
    #[arg(long = "where", value_name = "EXPRESSION", value_parser = Expression::parse)]
    pub narrow: Option<Expression>,
    /// Only processes of these users, with commas between them
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub user: Vec<String>,
    /// Only your own processes
    #[arg(long)]
    pub mine: bool,
    /// Only processes that do something
    #[arg(long)]
    pub active: bool,
}

impl Kept {
    /// Says so where this machine has no user of a name that was given: an empty table would not.
    pub fn check_users(&self) -> Result<(), Misuse> {
        match self.user.iter().find(|name| !own::has_user(name)) {
            Some(name) => Err(Misuse(format!("--user: this machine has no user called '{name}'"))),
            None => Ok(()),
        }
    }

    /// Puts what was asked for into a narrowing; says whether anything was.
    pub fn apply(&self, narrowing: &mut Narrowing) -> Result<bool, Misuse> {
        let says = self.says();
        // Joined as trees: read anew as a text, the whole could be too long or too deep, and a condition that is lost selects everybody.
        let of_users =
            (!self.user.is_empty()).then(|| Node::one_of("user", self.user.iter().map(String::as_str)));
        let joined = match (&self.narrow, of_users) {
            (None, None) => None,
            (Some(expression), None) => Some(expression.clone()),
            (None, Some(users)) => Some(whole(users)?),
            (Some(expression), Some(users)) => {
                Some(whole(Node::And(vec![users, expression.tree().clone()]))?)
            }
        };
        narrowing.expression = joined.or(narrowing.expression.take());
        if self.mine {
            narrowing.whose = Whose::Mine;
        }
        narrowing.active |= self.active;
        Ok(says)
    }
}

fn whole(tree: Node) -> Result<Expression, Misuse> {
    Expression::of(tree).map_err(|error| Misuse(format!("--user: {error}")))
}

pub fn order(text: &str) -> Result<Order, dozor_core::rank::OrderError> {
    Order::parse(text)
}

pub fn columns(text: &str) -> Result<ColumnSet, crate::look::columns::ColumnsError> {
    ColumnSet::parse(text)
}

pub fn arrangement(text: &str) -> Result<Arrange, String> {
    Arrange::ALL.into_iter().find(|arrange| arrange.word() == text).ok_or_else(|| {
        let words = Arrange::ALL.map(Arrange::word);
        let near =
            nearest(text, words).map_or_else(|| words.join(", "), |near| format!("did you mean {near}?"));
        format!("no arrangement is called '{text}'; {near}")
    })
}

pub fn pid(text: &str) -> Result<i64, String> {
    text.parse().ok().filter(|pid| *pid > 0).ok_or_else(|| format!("'{text}' is not a PID"))
}

/// Where the kernel's files are; for made-up trees.
#[derive(Args)]
pub struct KernelFiles {
    /// Read this tree instead of /proc
    #[arg(long, value_name = "FOLDER", default_value = "/proc", hide_default_value = true)]
    pub proc_root: PathBuf,
    /// Read this tree instead of /sys
    #[arg(long, value_name = "FOLDER", default_value = "/sys", hide_default_value = true)]
    pub sys_root: PathBuf,
    /// Count by small programs in the kernel where that is allowed, or by files alone
    #[arg(long, value_enum, default_value_t = Reader::Kernel)]
    pub reader: Reader,
}

/// What counts processes.
#[derive(Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Reader {
    Kernel,
    Files,
}

impl KernelFiles {
    /// This machine, to be read again and again.
    pub fn source(&self) -> anyhow::Result<LiveSource> {
        own::give_large_memory_back();
        let source = LiveSource::open(self.roots())?;
        Ok(if self.reader == Reader::Kernel { source.from_inside_later() } else { source })
    }

    /// This machine, to be shown at once.
    pub fn source_of_screen(&self) -> anyhow::Result<LiveSource> {
        own::give_large_memory_back();
        let source = LiveSource::open(self.roots())?;
        Ok(if self.reader == Reader::Kernel { source.from_inside_when_settled() } else { source })
    }

    /// This machine, to be read once or twice.
    pub fn source_at_once(&self) -> anyhow::Result<LiveSource> {
        let source = LiveSource::open(self.roots())?;
        Ok(if self.reader == Reader::Kernel { source.listening() } else { source })
    }

    pub fn roots(&self) -> Roots {
        Roots { proc: self.proc_root.clone(), sys: self.sys_root.clone(), ..Roots::default() }
    }
}

/// A bare number is one of seconds, as in sleep(1).
pub fn duration(text: &str) -> Result<Duration, dozor_core::units::QuantityError> {
    let is_bare = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.');
    if is_bare { parse_duration(&format!("{text}s")) } else { parse_duration(text) }
}

/// An interval: not shorter than reading itself takes.
pub fn interval(text: &str) -> Result<Duration, String> {
    let every = duration(text).map_err(|error| error.to_string())?;
    if every < Duration::from_millis(50) {
        return Err(format!("'{text}' is too short; the shortest interval is 50ms"));
    }
    Ok(every)
}

pub fn positive(text: &str) -> Result<u64, String> {
    text.parse()
        .ok()
        .filter(|number| *number > 0)
        .ok_or_else(|| format!("'{text}' is not a whole number from 1 on"))
}

/// A failure that was caused by what was asked for.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct Misuse(pub String);

/// The screen needs a terminal on both sides; standard input may be a pipe.
pub fn need_terminal() -> anyhow::Result<()> {
    if io::stdout().is_terminal() {
        // These names say that nothing can be placed on it (terminfo(5)); nobody says what an unnamed one can do.
        let name = std::env::var("TERM").unwrap_or_default();
        return match name.as_str() {
            "" => Err(Misuse("TERM does not say what terminal this is, so no screen can be drawn; set it, as in TERM=xterm, or use dozor snapshot".to_owned()).into()),
            "dumb" | "unknown" => Err(Misuse(format!("a terminal called '{name}' (TERM) can show no screen; use dozor snapshot, or set TERM to what it is")).into()),
            _ => Ok(()),
        };
    }
    Err(Misuse(
        "the screen needs a terminal; for files and pipes use dozor snapshot or dozor record".to_owned(),
    )
    .into())
}
