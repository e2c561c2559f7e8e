//! `pennined verify-audit`.

use crate::audit_seals::{self, ExportedSeal};
use crate::config::Config;
use crate::installation::encryption;
use anyhow::{Context, bail};
use pennine_store::audit_seal::Seal;
use pennine_store::{Store, installation};
use std::collections::BTreeMap;
use std::path::Path;

/// Checks the audit log against its seals, and these against a list that was exported before; says what was found.
pub async fn run(
    config: Config,
    export: Option<&Path>,
    against: Option<&Path>,
) -> anyhow::Result<()> {
    let store = Store::open(&config.database_url, &config.database_connections)?;
    let found = installation::find(&mut *store.tasks().await?).await?;
    let found = found.context("there is no installation in this database")?;
    let encryption = encryption(&config, &found)?;
    let mut kept = match against {
        Some(path) => exported(path)?,
        None => BTreeMap::new(),
    };
    let mut lines = Vec::new();
    let mut differ = Vec::new();
    let mut visit = |seal: &Seal| {
        let now = ExportedSeal::of(seal);
        if kept.remove(&now.last_id).is_some_and(|then| then != now) {
            differ.push(format!(
                "the seal up to entry {} is another than in the list",
                now.last_id
            ));
        }
        lines.push(now);
    };
    let mut found = audit_seals::verify(&store, &encryption, &mut visit).await?;
    found.problems.extend(differ);
    let gone = kept
        .keys()
        .map(|last| format!("the seal up to entry {last} is in the list and not in the database"));
    found.problems.extend(gone);
    println!(
        "Checked {} seals over {} entries, up to entry {}; the entries of {} seals have expired.",
        found.seals, found.entries, found.sealed_to, found.expired
    );
    if !found.problems.is_empty() {
        for problem in &found.problems {
            println!("  {problem}");
        }
        bail!(
            "the audit log is not what was sealed ({} problems)",
            found.problems.len()
        );
    }
    println!("Every entry is as it was when it was sealed.");
    if let Some(path) = export {
        let lines: Result<Vec<String>, _> = lines.iter().map(serde_json::to_string).collect();
        std::fs::write(path, lines?.join("\n") + "\n")
            .with_context(|| format!("{} cannot be written", path.display()))?;
        println!(
            "The seals are in {}. Keep it where the database's administrator cannot change it.",
            path.display()
        );
    }
    Ok(())
}

/// Reads seals that were exported, by the last entry of each.
fn exported(path: &Path) -> anyhow::Result<BTreeMap<i64, ExportedSeal>> {
    let text = std::fs::read_to_string(path)
        .with_context(|| format!("{} cannot be read", path.display()))?;
    let mut kept = BTreeMap::new();
    for (number, line) in text.lines().enumerate() {
        let seal: ExportedSeal = serde_json::from_str(line)
            .with_context(|| format!("{}, line {}", path.display(), number + 1))?;
        kept.insert(seal.last_id, seal);
    }
    Ok(kept)
}
