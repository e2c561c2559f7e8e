//! What the output goes to: its width and height, whether it takes colours, and what is drawn in place.

use crate::escapes::TerminalFilter;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use std::io::{IsTerminal, Write};
use std::sync::Mutex;
use std::time::Duration;

/// The width of output that is not a terminal, in columns.
const USUAL_WIDTH: u16 = 100;

/// The narrowest and the widest output, in columns.
const WIDTHS: (u16, u16) = (60, 200);

/// How long a command takes before it says what it waits for.
const PATIENCE: Duration = Duration::from_secs(1);

/// The width to fit, in columns: the terminal's, or 100 where the output is not a terminal.
pub fn width() -> usize {
    let known = size().map_or(USUAL_WIDTH, |(columns, _)| columns);
    usize::from(known.clamp(WIDTHS.0, WIDTHS.1))
}

/// The terminal's columns and rows; none where the output is not a terminal.
pub fn size() -> Option<(u16, u16)> {
    if !std::io::stdout().is_terminal() {
        return None;
    }
    crossterm::terminal::size()
        .ok()
        .filter(|(columns, rows)| *columns > 0 && *rows > 0)
}

/// Whether the output goes to a terminal.
pub fn is_output() -> bool {
    std::io::stdout().is_terminal()
}

/// Whether output has colours: on a terminal that takes them, unless `NO_COLOR` is set (no-color.org).
pub fn has_colours() -> bool {
    let refused = std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty());
    let dumb = std::env::var_os("TERM").is_some_and(|value| value == "dumb");
    std::io::stdout().is_terminal() && !refused && !dumb
}

/// What is shown while a command waits, on the error output; taken away by the first real output.
static WAITING: Mutex<Option<ProgressBar>> = Mutex::new(None);

fn waiting() -> std::sync::MutexGuard<'static, Option<ProgressBar>> {
    WAITING
        .lock()
        .unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// Does some work. If it takes longer than a second, a terminal shows for what it waits, until something is printed.
pub async fn with_progress<T>(what: String, work: impl Future<Output = T>) -> T {
    if !std::io::stderr().is_terminal() {
        return work.await;
    }
    let mut work = std::pin::pin!(work);
    let first = tokio::time::timeout(PATIENCE, &mut work).await;
    if let Ok(done) = first {
        return done;
    }
    if !printed_anything() {
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
        let style = ProgressStyle::with_template("{spinner} {msg} ({elapsed})");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
        bar.set_message(what);
        bar.enable_steady_tick(Duration::from_millis(120));
        *waiting() = Some(bar);
    }
    let done = work.await;
    clear_progress();
    done
}

/// Says how far the work has come, where that is shown.
pub fn set_progress(message: impl FnOnce() -> String) {
    if let Some(bar) = waiting().as_ref() {
        bar.set_message(message());
    }
}

static PRINTED: std::sync::atomic::AtomicBool = std::sync::atomic::AtomicBool::new(false);

fn printed_anything() -> bool {
    PRINTED.load(std::sync::atomic::Ordering::Relaxed)
}

/// Takes away what is shown of the waiting, before something is printed.
pub fn clear_progress() {
    PRINTED.store(true, std::sync::atomic::Ordering::Relaxed);
    if let Some(bar) = waiting().take() {
        bar.finish_and_clear();
    }
}

/// Draws a text over the one before, on a terminal; elsewhere prints it below, after an empty line.
#[derive(Debug, Default)]
pub struct Redrawn {
    lines: usize,
    begun: bool,
}

impl Redrawn {
    /// Draws.
    pub fn draw(&mut self, text: &str) -> std::io::Result<()> {
        let Some((columns, rows)) = size() else {
            let gap = if self.begun { "\n" } else { "" };
            self.begun = true;
            let mut out = std::io::stdout().lock();
            out.write_all(format!("{gap}{text}").as_bytes())?;
            return out.flush();
        };
        let text = &TerminalFilter::new(true).filter(text.as_bytes());
        let lines = fitted(text, usize::from(columns), usize::from(rows));
        let mut drawn = String::new();
        if self.lines > 0 {
            drawn += &format!("\x1b[{}F", self.lines);
        }
        for line in &lines {
            // Each line is cleared before it is written: the screen is never empty in between.
            drawn += &format!("\x1b[2K{line}\n");
        }
        drawn += "\x1b[0J";
        self.lines = lines.len();
        let mut out = std::io::stdout().lock();
        out.write_all(drawn.as_bytes())?;
        out.flush()
    }
}

/// The lines of a text that fit a screen; where there are more, the last line says how many.
fn fitted(text: &str, columns: usize, rows: usize) -> Vec<String> {
    let all: Vec<&str> = text.lines().collect();
    let room = rows.saturating_sub(1).max(2);
    let shown = if all.len() > room {
        room - 1
    } else {
        all.len()
    };
    let mut lines: Vec<String> = all
        .iter()
        .take(shown)
        .map(|line| cut_visible(line, columns))
        .collect();
    if shown < all.len() {
        lines.push(format!("… {} more lines", all.len() - shown));
    }
    lines
}

/// A line cut to a number of columns; escape sequences for colours take none.
fn cut_visible(line: &str, columns: usize) -> String {
    let (mut text, mut used, mut escape) = (String::new(), 0, false);
    for letter in line.chars() {
        match (escape, letter) {
            (false, '\x1b') => escape = true,
            (true, 'a'..='z' | 'A'..='Z') => escape = false,
            (true, _) => {}
            (false, _) => {
                used += 1;
                if used > columns {
                    continue;
                }
            }
        }
        text.push(letter);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_cut_to_the_screen_with_a_count_of_hidden_lines() {
        let text = "one\ntwo\nthree\nfour\nfive\n";
        assert_eq!(fitted(text, 80, 6), ["one", "two", "three", "four", "five"]);
        assert_eq!(fitted(text, 80, 4), ["one", "two", "… 3 more lines"]);
        assert_eq!(fitted("abcdef", 3, 9), ["abc"]);
    }

    #[test]
    fn colours_take_no_columns() {
        assert_eq!(
            cut_visible("\x1b[31mred\x1b[0m and more", 5),
            "\x1b[31mred\x1b[0m a"
        );
    }
}
