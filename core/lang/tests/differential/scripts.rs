//! Scripts: written ones and generated ones.

use super::{Kind, compare};

#[test]
fn written_scripts_agree_with_node() {
    let scripts: Vec<String> = include_str!("scripts.txt").split("\n---\n").map(str::to_owned).collect();
    assert!(scripts.len() > 60, "{}", scripts.len());
    compare(&scripts, Kind::Scripts);
}
