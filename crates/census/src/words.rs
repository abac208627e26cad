//! Small helpers for wording messages.

/// The names of `all` that lie nearest to `name`, the nearest first, at most three.
///
/// Nearness is the Damerau–Levenshtein distance (optimal string alignment), at most a third of the name's length.
#[must_use]
pub fn nearest<'a>(name: &str, all: impl IntoIterator<Item = &'a str>) -> Vec<&'a str> {
    if name.len() > 200 {
        return Vec::new();
    }
    let wanted = name.to_lowercase();
    let limit = (wanted.chars().count() / 3).max(1);
    let mut near: Vec<(usize, &str)> = all
        .into_iter()
        .filter(|other| other.len().abs_diff(name.len()) <= limit * 4)
        .filter_map(|other| {
            let distance = strsim::osa_distance(&wanted, &other.to_lowercase());
            (distance <= limit).then_some((distance, other))
        })
        .collect();
    near.sort_unstable();
    near.dedup();
    near.into_iter().take(3).map(|(_, name)| name).collect()
}

/// "did you mean `a` or `b`?", if there is anything to offer.
#[must_use]
pub fn did_you_mean<'a>(name: &str, all: impl IntoIterator<Item = &'a str>) -> Option<String> {
    offer(&nearest(name, all))
}

/// "did you mean `a` or `b`?", of names that are near.
#[must_use]
pub fn offer(near: &[&str]) -> Option<String> {
    (!near.is_empty()).then(|| format!("did you mean {}?", either(near)))
}

/// "`a`, `b` or `c`"
#[must_use]
pub fn either<T: AsRef<str>>(names: &[T]) -> String {
    list(names, "or")
}

/// "`a`, `b` and `c`"
#[must_use]
pub fn both<T: AsRef<str>>(names: &[T]) -> String {
    list(names, "and")
}

fn list<T: AsRef<str>>(names: &[T], last: &str) -> String {
    let mut text = String::new();
    for (at, name) in names.iter().enumerate() {
        if at > 0 {
            text.push_str(if at + 1 == names.len() { " " } else { ", " });
        }
        if at > 0 && at + 1 == names.len() {
            text.push_str(last);
            text.push(' ');
        }
        text.push('`');
        text.push_str(name.as_ref());
        text.push('`');
    }
    text
}

/// "1 line", "2 lines"
#[must_use]
pub fn count(number: usize, one: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {one}s") }
}

/// A number to twelve digits, for sums of fractions that come out a hair beside what was meant, and for ends that are just not
/// reached.
#[must_use]
pub fn about(value: f64) -> String {
    number(format!("{value:.11e}").parse().unwrap_or(value))
}

/// A number as a designer writes it: no `.0` behind whole ones.
#[must_use]
pub fn number(value: f64) -> String {
    if value == f64::INFINITY {
        "any height".to_owned()
    } else if value == f64::NEG_INFINITY {
        "any depth".to_owned()
    } else if value.abs() >= 1e16 || (value != 0.0 && value.abs() < 1e-6) {
        format!("{value:e}")
    } else {
        // Adding zero turns a negative zero into a plain one.
        format!("{}", value + 0.0)
    }
}

/// What may be a name in a piece of a script, read or not.
pub fn names_in(text: &str) -> impl Iterator<Item = &str> {
    text.split(|c: char| !c.is_alphanumeric() && c != '_').filter(|word| !word.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hair_beside_a_number_is_told_as_the_number() {
        assert_eq!(about(0.1 + 0.2), "0.3");
        assert_eq!(about(181.0_f64.next_down()), "181");
        assert_eq!(about(-0.125), "-0.125");
        assert_eq!(about(f64::INFINITY), "any height");
        assert_eq!(about(1_234_567_890.0), "1234567890");
    }
}
