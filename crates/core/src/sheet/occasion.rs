//! What a run is of, by which a sheet's jobs apply to it or not.

use super::{Need, Sheet};
use crate::fact::{FactValue, Facts, Subject};

/// What a run is of.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Occasion {
    pub branch: Option<String>,
    pub revision: Option<String>,
    /// Why it was submitted.
    pub event: Option<String>,
}

impl Sheet {
    /// The sheet with the jobs that apply to a run of this occasion. A job that waited for one of the others does not wait for it.
    pub fn for_occasion(mut self, occasion: &Occasion) -> Sheet {
        let mut facts = Facts::new();
        for (name, value) in &self.values {
            facts.insert(name.clone(), FactValue::Text(value.clone()));
        }
        let known = [
            ("branch", &occasion.branch),
            ("revision", &occasion.revision),
            ("event", &occasion.event),
        ];
        for (name, value) in known {
            if let Some(value) = value {
                facts.insert(name.to_owned(), FactValue::Text(value.clone()));
            }
        }
        // Where each job is among the remaining jobs.
        let mut moved: Vec<Option<usize>> = Vec::with_capacity(self.jobs.len());
        let mut kept = 0;
        for job in &self.jobs {
            let mut facts = facts.clone();
            facts.extend(
                (job.varied.iter())
                    .map(|(name, value)| (name.clone(), FactValue::Text(value.clone()))),
            );
            let subject = Subject::new("", "", [], &facts).without(&["runner", "pool"]);
            let applies =
                (job.applies.as_ref()).is_none_or(|applies| applies.satisfied_by(&subject));
            moved.push(applies.then_some(kept));
            kept += usize::from(applies);
        }
        let mut positions = moved.iter();
        self.jobs
            .retain(|_| positions.next().is_some_and(Option::is_some));
        for job in &mut self.jobs {
            let needs = job.after.iter().filter_map(|need| {
                let job = moved.get(need.job).copied().flatten()?;
                Some(Need { job, ..*need })
            });
            job.after = needs.collect();
        }
        self
    }
}
