//! `pennine help`: a command's help, or a guide.

use crate::error::Error;
use crate::terminal;
use crate::view;
use clap::Command;

/// A guide: its name, what it is about, and its text.
struct Guide {
    name: &'static str,
    about: &'static str,
    text: &'static str,
}

const GUIDES: [Guide; 3] = [
    Guide {
        name: "requirements",
        about: "The language in which jobs say what they need of a runner",
        text: include_str!("../../../../docs/requirements.md"),
    },
    Guide {
        name: "waiting",
        about: "The reasons for which jobs wait, and what to do about each",
        text: include_str!("../../../../docs/waiting.md"),
    },
    Guide {
        name: "yard-file",
        about: "The yard as a file: every table and key",
        text: include_str!("../../../../docs/yard-file.md"),
    },
];

/// Returns the list of the guides, for the end of the program's help.
pub fn list() -> String {
    let mut text = "Guides (pennine help GUIDE):\n".to_owned();
    for guide in &GUIDES {
        text += &format!("  {:<14}{}\n", guide.name, guide.about);
    }
    text
}

/// `pennine help`.
///
/// Errors: no command and no guide has this name.
pub fn run(mut command: Command, topic: &[String]) -> Result<(), Error> {
    // The names in usage lines and the options that hold everywhere.
    command.build();
    if let [name] = topic
        && let Some(guide) = GUIDES.iter().find(|guide| guide.name == *name)
    {
        return view::print(&plain(guide.text, terminal::width()));
    }
    let mut found = &mut command;
    for (at, name) in topic.iter().enumerate() {
        let above = found.get_bin_name().unwrap_or("pennine").to_owned();
        let Some(next) = found.find_subcommand_mut(name) else {
            let guides: Vec<&str> = GUIDES.iter().map(|guide| guide.name).collect();
            return Err(Error::Usage(if at == 0 {
                format!(
                    "no command or guide is called {name:?}. Commands: pennine --help. Guides: {}",
                    guides.join(", ")
                )
            } else {
                format!("{above} has no command {name:?}. Its commands: {above} --help")
            }));
        };
        found = next;
    }
    view::print(&format!("{}\n", found.render_long_help()))
}

/// Markdown for a terminal of this width: headings in capitals, code indented, paragraphs wrapped, no fences and no links.
fn plain(markdown: &str, width: usize) -> String {
    let (mut text, mut paragraph, mut in_code) = (String::new(), String::new(), false);
    for line in markdown.lines() {
        let is_item = line.starts_with("- ");
        let goes_on = !in_code && !line.is_empty() && !line.starts_with(['#', '`']) && !is_item;
        if goes_on || (line.starts_with('`') && !line.starts_with("```")) {
            if !paragraph.is_empty() {
                paragraph.push(' ');
            }
            paragraph += without_links(line.trim()).replace('`', "").as_str();
            continue;
        }
        text += &wrapped(&std::mem::take(&mut paragraph), width);
        if line.starts_with("```") {
            in_code = !in_code;
        } else if in_code {
            text += &format!("    {line}\n");
        } else if is_item {
            paragraph = without_links(line).replace('`', "");
        } else {
            let heading = line.trim_start_matches('#').trim();
            text += &format!("{}\n", heading.to_uppercase());
        }
    }
    text + &wrapped(&paragraph, width)
}

/// A paragraph or an item of a list in lines of at most this width; nothing for an empty one.
fn wrapped(paragraph: &str, width: usize) -> String {
    if paragraph.is_empty() {
        return String::new();
    }
    let below = if paragraph.starts_with("- ") {
        "  "
    } else {
        ""
    };
    let how = textwrap::Options::new(width)
        .word_splitter(textwrap::WordSplitter::NoHyphenation)
        .subsequent_indent(below);
    textwrap::fill(paragraph, how) + "\n"
}

/// A line in which `[words](address)` is only its words.
fn without_links(line: &str) -> String {
    let mut text = String::new();
    let mut rest = line;
    while let Some((before, after)) = rest.split_once('[') {
        text += before;
        match after
            .split_once("](")
            .and_then(|(words, after)| Some((words, after.split_once(')')?.1)))
        {
            Some((words, after)) => {
                text += words;
                rest = after;
            }
            None => {
                text.push('[');
                rest = after;
            }
        }
    }
    text + rest
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::arguments::Arguments;
    use clap::CommandFactory;

    #[test]
    fn a_guide_is_printed_without_its_markup() {
        let markdown = "# Title\n\nSee `x` in [the page](a.md#b),\nor [y].\n\n- one and\n  more\n- two\n\n```\nsome `code`\n```\n";
        assert_eq!(
            plain(markdown, 20),
            "TITLE\n\nSee x in the page,\nor [y].\n\n- one and more\n- two\n\n    some `code`\n"
        );
    }

    #[test]
    fn no_guide_has_the_name_of_a_command() {
        let command = Arguments::command();
        for guide in &GUIDES {
            assert!(
                command.find_subcommand(guide.name).is_none(),
                "{}",
                guide.name
            );
            assert!(guide.text.starts_with("# "), "{}", guide.name);
        }
    }
}
