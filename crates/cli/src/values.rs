//! Amounts of money and parts of the week, as people type them.

use pennine_core::capacity::{Day, Times, Week};

/// An amount of money, in millionths.
pub fn amount(text: &str) -> Result<u64, String> {
    let wrong = || "use an amount such as 12 or 0.25, with up to 6 decimals".to_owned();
    let (whole, rest) = text.split_once('.').unwrap_or((text, ""));
    let digits = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit());
    if whole.is_empty() || rest.len() > 6 || !digits(whole) || !digits(rest) {
        return Err(wrong());
    }
    let whole: u64 = whole.parse().map_err(|_| wrong())?;
    let rest: u64 = format!("{rest:0<6}").parse().map_err(|_| wrong())?;
    whole
        .checked_mul(1_000_000)
        .and_then(|all| all.checked_add(rest))
        .ok_or_else(wrong)
}

/// An amount of money, to the last millionth.
pub fn amount_text(millionths: u64) -> String {
    let text = format!("{}.{:06}", millionths / 1_000_000, millionths % 1_000_000);
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}

/// A stretch of the week, or none where the text is empty.
pub fn during(text: &str) -> Result<Option<Times>, String> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let usage = "use the form 'mon-fri 08:00-18:00 floor=2 spare=1'";
    let mut words = text.split_whitespace();
    let (days, times) = words.next().zip(words.next()).ok_or(usage)?;
    let (from, until) = times.split_once('-').ok_or(usage)?;
    let mut found = Times {
        days: days_of(days)?,
        from: from.to_owned(),
        until: until.to_owned(),
        floor: None,
        spare: None,
    };
    for word in words {
        let (name, value) = word.split_once('=').ok_or(usage)?;
        let value = value
            .parse()
            .map_err(|_| format!("{value:?} is not a number"))?;
        match name {
            "floor" => found.floor = Some(value),
            "spare" => found.spare = Some(value),
            other => return Err(format!("{other:?} is neither floor nor spare; {usage}")),
        }
    }
    let week = Week {
        zone: String::new(),
        times: vec![found.clone()],
    };
    week.check().map_err(|error| error.to_string())?;
    Ok(Some(found))
}

/// A stretch of the week as [`during`] reads it.
pub fn during_text(times: &Times) -> String {
    let words: Vec<String> = times.days.iter().map(|day| word_of(*day)).collect();
    let all = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let mut runs: Vec<(usize, usize)> = Vec::new();
    for at in all
        .iter()
        .enumerate()
        .filter(|(_, word)| words.iter().any(|one| one == *word))
    {
        match runs.last_mut() {
            Some((_, last)) if *last + 1 == at.0 => *last = at.0,
            _ => runs.push((at.0, at.0)),
        }
    }
    let name = |at: usize| all.get(at).copied().unwrap_or_default();
    let runs: Vec<String> = runs
        .into_iter()
        .map(|(first, last)| {
            if first == last {
                name(first).to_owned()
            } else {
                format!("{}-{}", name(first), name(last))
            }
        })
        .collect();
    let mut text = format!("{} {}-{}", runs.join(","), times.from, times.until);
    for (word, value) in [("floor", times.floor), ("spare", times.spare)] {
        if let Some(value) = value {
            text += &format!(" {word}={value}");
        }
    }
    text
}

fn word_of(day: Day) -> String {
    let told = serde_json::to_value(day).unwrap_or_default();
    told.as_str().unwrap_or_default().to_owned()
}

fn days_of(text: &str) -> Result<std::collections::BTreeSet<Day>, String> {
    let day = |word: &str| {
        serde_json::from_value::<Day>(serde_json::json!(word.to_lowercase()))
            .map_err(|_| format!("{word:?} is not a day: use mon, tue, wed, thu, fri, sat or sun"))
    };
    let mut days = std::collections::BTreeSet::new();
    for part in text.split(',') {
        match part.split_once('-') {
            None => {
                days.insert(day(part)?);
            }
            Some((first, last)) => {
                let (first, last) = (day(first)?, day(last)?);
                let all = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
                let mut on = false;
                // Twice round the week: sat-mon goes over its end.
                for word in all.iter().chain(&all) {
                    let one = day(word)?;
                    on |= one == first;
                    if on {
                        days.insert(one);
                    }
                    if on && one == last {
                        break;
                    }
                }
            }
        }
    }
    Ok(days)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn amounts_are_exact() {
        assert_eq!(amount("12"), Ok(12_000_000));
        assert_eq!(amount("0.25"), Ok(250_000));
        assert_eq!(amount("0.000001"), Ok(1));
        for text in ["12", "0.25", "0.000001", "100.5"] {
            assert_eq!(amount_text(amount(text).unwrap()), text);
        }
        for wrong in ["", ".5", "1.0000001", "-1", "1e3", "99999999999999999999"] {
            assert!(amount(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_part_of_the_week_is_read_over_its_end() {
        let found = during("fri-mon 22:00-06:00 floor=2").unwrap().unwrap();
        assert_eq!(during_text(&found), "mon,fri-sun 22:00-06:00 floor=2");
        let days = serde_json::to_value(&found.days).unwrap();
        assert_eq!(days, serde_json::json!(["mon", "fri", "sat", "sun"]));
        assert_eq!((found.floor, found.spare), (Some(2), None));
        assert!(during("").unwrap().is_none());
        for wrong in [
            "mon",
            "mon 8-9 floor=1",
            "mon 08:00-09:00",
            "someday 08:00-09:00 floor=1",
        ] {
            assert!(during(wrong).is_err(), "{wrong}");
        }
    }
}
