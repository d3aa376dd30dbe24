//! Printing pages as PDF with WeasyPrint, in a process of its own for each page: `print.py` bounds its memory, its time and what it
//! writes, fetches nothing, and sees no files but those that the step names. Knows nothing of templates or runs.

use std::io;
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};

use kanzlei_engine::machine::EffectError;
use kanzlei_model::run::FailureKind;
use serde::Deserialize;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::process::Command;
use tokio::sync::{Mutex, Semaphore};

const SCRIPT: &str = include_str!("print.py");
/// The most bytes that are read of what a printer says.
const MOST_SAID: u64 = 64 << 10;
/// How long it is not asked again whether there is a printer, where there was none.
const MISSING: Duration = Duration::from_secs(30);
/// The signal of a process that has used up its time.
const SIGXCPU: i32 = 24;
/// The signal of one that wrote more than it may.
const SIGXFSZ: i32 = 25;

/// How pages are printed.
#[derive(Clone, Debug)]
pub struct Settings {
    /// The interpreter that has WeasyPrint.
    pub python: String,
    /// Bytes of memory of one page.
    pub memory: u64,
    /// Pages at once.
    pub at_once: usize,
}

/// Prints pages.
pub struct Printer {
    settings: Settings,
    slots: Semaphore,
    /// What was known of the engine when it was asked last.
    known: Mutex<Option<(Instant, Result<String, String>)>>,
}

/// A page that is to be printed.
pub struct Page<'p> {
    /// HTML.
    pub html: &'p str,
    /// The files that it may show, by the names that it has for them.
    pub files: &'p [(String, PathBuf)],
    /// The most pages.
    pub pages: u32,
    /// The most bytes of the PDF.
    pub bytes: u64,
    /// The most processor time.
    pub within: Duration,
}

/// What the process says of a page.
#[derive(Debug, Default, Deserialize)]
struct Said {
    fault: Option<String>,
    kind: Option<String>,
}

fn fault(kind: FailureKind, detail: impl Into<String>) -> EffectError {
    EffectError { kind, detail: detail.into() }
}

impl Printer {
    /// A printer; nothing is started before a page is printed.
    pub fn new(settings: Settings) -> Self {
        Printer { slots: Semaphore::new(settings.at_once.max(1)), settings, known: Mutex::default() }
    }

    fn command(&self) -> Command {
        let mut command = Command::new(&self.settings.python);
        command.env_clear().env("PATH", "/usr/bin:/bin").env("LANG", "C.UTF-8").kill_on_drop(true);
        // Isolated: neither the folder nor the environment decides what is loaded.
        command.args(["-I", "-c", SCRIPT]);
        command
    }

    /// The version of WeasyPrint.
    ///
    /// # Errors
    /// Why there is none, for people.
    pub async fn engine(&self) -> Result<String, String> {
        let mut known = self.known.lock().await;
        if let Some((asked, found)) = &*known
            && (found.is_ok() || asked.elapsed() < MISSING)
        {
            return found.clone();
        }
        let python = &self.settings.python;
        let asked = self.command().arg("--version").stdin(Stdio::null()).output();
        let found = match tokio::time::timeout(Duration::from_secs(20), asked).await {
            Ok(Ok(out)) if out.status.success() => Ok(String::from_utf8_lossy(&out.stdout).trim().to_owned()),
            Ok(Ok(_)) => Err(format!("`{python}` has no WeasyPrint")),
            Ok(Err(error)) => Err(format!("`{python}` cannot be started ({error})")),
            Err(_) => Err(format!("`{python}` does not answer")),
        };
        *known = Some((Instant::now(), found.clone()));
        found
    }

    /// Prints a page into a new file.
    ///
    /// # Errors
    /// When there is no engine, the page names what it may not, or a bound is met.
    pub async fn print(&self, page: &Page<'_>, to: &Path) -> Result<(), EffectError> {
        let slot = self.slots.acquire().await;
        let _slot = slot.map_err(|error| fault(FailureKind::Internal, error.to_string()))?;
        self.engine().await.map_err(|why| {
            fault(FailureKind::Print, format!("{why}; install it where the service runs: `apt-get install weasyprint`"))
        })?;
        let numbers = [
            self.settings.memory.to_string(),
            page.within.as_secs().max(1).to_string(),
            page.pages.to_string(),
            page.bytes.to_string(),
        ];
        let mut command = self.command();
        command.args(numbers).arg(to);
        for (name, path) in page.files {
            command.arg(name).arg(path);
        }
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
        let broken = |error: io::Error| fault(FailureKind::Print, format!("the printer cannot be used: {error}"));
        let mut child = command.spawn().map_err(broken)?;
        let (stdin, stdout, stderr) = (child.stdin.take(), child.stdout.take(), child.stderr.take());
        let send = async {
            if let Some(mut stdin) = stdin {
                // It may end before it has read the page; how it ends says why.
                let _ = stdin.write_all(page.html.as_bytes()).await;
            }
        };
        let (_, said, words, status) = tokio::join!(send, read(stdout), read(stderr), child.wait());
        let status = status.map_err(broken)?;
        match status.signal() {
            Some(SIGXCPU) => return Err(fault(FailureKind::Timeout, "printing the page takes too long")),
            Some(SIGXFSZ) => {
                return Err(fault(FailureKind::TooLarge, format!("the PDF has more than {} bytes", page.bytes)));
            }
            _ => {}
        }
        let said: Option<Said> = serde_json::from_str(said.trim()).ok();
        match said {
            Some(Said { fault: None, .. }) if status.success() => Ok(()),
            Some(Said { fault: Some(why), kind }) => {
                let kind = kind.as_deref().and_then(FailureKind::of).unwrap_or(FailureKind::Print);
                Err(fault(kind, why))
            }
            _ => {
                let last = words.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
                let last: String = last.chars().take(200).collect();
                Err(fault(FailureKind::Print, format!("the printer ended early ({status}): {last}")))
            }
        }
    }
}

/// What a process says, up to a bound; the rest is dropped.
async fn read(from: Option<impl AsyncReadExt + Unpin>) -> String {
    let Some(mut from) = from else { return String::new() };
    let mut text = Vec::new();
    let _ = (&mut from).take(MOST_SAID).read_to_end(&mut text).await;
    let _ = tokio::io::copy(&mut from, &mut tokio::io::sink()).await;
    String::from_utf8_lossy(&text).into_owned()
}

#[cfg(test)]
mod tests;
