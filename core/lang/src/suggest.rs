//! "Did you mean …?": the known name nearest to one that is not known.

/// The candidate with the smallest edit distance, when that is small enough to be a slip.
pub fn nearest<'a>(name: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = match name.chars().count() {
        0..=3 => 1,
        4..=6 => 2,
        _ => 3,
    };
    candidates
        .into_iter()
        .filter(|candidate| candidate.len().abs_diff(name.len()) <= allowed)
        .map(|candidate| (strsim::osa_distance(&name.to_lowercase(), &candidate.to_lowercase()), candidate))
        .filter(|(distance, _)| *distance <= allowed)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_slip_finds_its_name_and_a_stranger_finds_none() {
        let known = ["vessel", "input", "tide", "rate"];
        for (given, wanted) in
            [("vesel", Some("vessel")), ("inptu", Some("input")), ("Tide", Some("tide")), ("harbour", None)]
        {
            assert_eq!(super::nearest(given, known), wanted, "{given}");
        }
    }
}
