//! Small helpers for wording messages.

/// How many near names are offered.
const MOST_NEAR: usize = 3;
/// How many bytes a letter takes at most.
const MOST_BYTES: usize = 4;

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
    let mut near: Vec<(usize, &str)> = Vec::with_capacity(MOST_NEAR + 1);
    for other in all {
        // There may be tens of thousands of names, so one that comes too late is not measured.
        let most = if near.len() == MOST_NEAR { near[MOST_NEAR - 1].0 } else { limit };
        let Some(distance) = distance_up_to(most, &wanted, other) else { continue };
        let at = near.partition_point(|known| *known < (distance, other));
        if near.get(at) != Some(&(distance, other)) {
            near.insert(at, (distance, other));
            near.truncate(MOST_NEAR);
        }
    }
    near.into_iter().map(|(_, name)| name).collect()
}

/// The distance of two names, the first in small letters, where it is no more than that.
fn distance_up_to(most: usize, wanted: &str, other: &str) -> Option<usize> {
    let distance = if wanted.is_ascii() && other.is_ascii() {
        // What they begin and end with alike costs nothing.
        let alike = |(a, b): &(u8, u8)| a.eq_ignore_ascii_case(b);
        let before = wanted.bytes().zip(other.bytes()).take_while(alike).count();
        let (wanted, other) = (&wanted[before..], &other[before..]);
        let behind = wanted.bytes().rev().zip(other.bytes().rev()).take_while(alike).count();
        let (wanted, other) = (&wanted[..wanted.len() - behind], &other[..other.len() - behind]);
        if wanted.len().abs_diff(other.len()) > most || letters_missing(wanted, other) > most {
            return None;
        }
        strsim::osa_distance(wanted, &other.to_ascii_lowercase())
    } else if wanted.len().abs_diff(other.len()) > most * MOST_BYTES {
        return None;
    } else {
        strsim::osa_distance(wanted, &other.to_lowercase())
    };
    (distance <= most).then_some(distance)
}

/// How many letters stand in one of two names only, at least: so far apart they are for certain.
fn letters_missing(a: &str, b: &str) -> usize {
    let letters = |name: &str| name.bytes().fold(0, |all: u64, byte| all | 1 << (byte.to_ascii_lowercase() % 64));
    let (a, b) = (letters(a), letters(b));
    (a & !b).count_ones().max((b & !a).count_ones()) as usize
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
    fn the_nearest_names_come_first_by_how_far_they_are_and_then_by_name() {
        let all = ["tide_levels", "side_level", "tide_level", "oil_level", "tide_lvel", "tide_level", "weather"];
        assert_eq!(nearest("Tide_Levle", all), ["tide_level", "side_level", "tide_levels"]);
        assert_eq!(nearest("tide_lvel", all), ["tide_lvel", "tide_level", "side_level"]);
        assert_eq!(nearest("wheather", all), ["weather"]);
        assert_eq!(nearest("größe", ["grösse", "größer", "Größe"]), ["Größe", "größer"]);
        assert!(nearest("lamp", all).is_empty());
    }

    #[test]
    fn a_hair_beside_a_number_is_told_as_the_number() {
        assert_eq!(about(0.1 + 0.2), "0.3");
        assert_eq!(about(181.0_f64.next_down()), "181");
        assert_eq!(about(-0.125), "-0.125");
        assert_eq!(about(f64::INFINITY), "any height");
        assert_eq!(about(1_234_567_890.0), "1234567890");
    }
}
