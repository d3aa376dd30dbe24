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
        .map(|candidate| (distance(&name.to_lowercase(), &candidate.to_lowercase()), candidate))
        .filter(|(distance, _)| *distance <= allowed)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, candidate)| candidate)
}

/// Damerau-Levenshtein distance with adjacent transpositions (optimal string alignment).
fn distance(a: &str, b: &str) -> usize {
    let (a, b): (Vec<char>, Vec<char>) = (a.chars().collect(), b.chars().collect());
    let mut rows = vec![vec![0; b.len() + 1]; a.len() + 1];
    for (i, row) in rows.iter_mut().enumerate() {
        row[0] = i;
    }
    for (j, cell) in rows[0].iter_mut().enumerate() {
        *cell = j;
    }
    for i in 1..=a.len() {
        for j in 1..=b.len() {
            let change = usize::from(a[i - 1] != b[j - 1]);
            let mut best = (rows[i - 1][j] + 1).min(rows[i][j - 1] + 1).min(rows[i - 1][j - 1] + change);
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                best = best.min(rows[i - 2][j - 2] + 1);
            }
            rows[i][j] = best;
        }
    }
    rows[a.len()][b.len()]
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
