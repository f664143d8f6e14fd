//! What stands out in one sample by itself, for places that have no time before: the same rules, those that need none.

use super::limit::Adjusted;
use super::rule::Seen;
use super::rules;
use super::scene::Scene;
use crate::lane::{Lane, Severity};
use crate::sample::Sample;
use crate::sorting::ColdSort as _;

/// What rules say of a sample that need no time before it, the worst first, without what another one explains.
pub fn at_once(sample: &Sample, adjusted: &Adjusted) -> Vec<(Severity, Lane, String)> {
    let Some(scene) = Scene::new(sample, adjusted) else { return vec![] };
    let rules: Vec<_> = rules::all().into_iter().filter(|rule| !adjusted.is_off(rule.about().name)).collect();
    let mut all = vec![];
    let mut seen: Vec<Seen> = vec![];
    for rule in &rules {
        let about = rule.about();
        scene.for_rule(about.name);
        rule.tell(&scene, &mut seen);
        let told = seen.drain(..).filter(|one| one.severity > Severity::Fine);
        all.extend(told.map(|one| (about, one.severity.min(adjusted.most(about.name)), one.sentence)));
    }
    let said: Vec<&str> = all.iter().map(|(about, ..)| about.name).collect();
    let is_explained =
        |name: &str, by: &[&str]| by.iter().any(|cause| *cause != name && said.contains(cause));
    let stands: Vec<bool> =
        all.iter().map(|(about, ..)| !is_explained(about.name, about.explained_by)).collect();
    let mut lines: Vec<(Severity, Lane, String)> = all
        .into_iter()
        .zip(stands)
        .filter(|(_, stands)| *stands)
        .map(|((about, severity, sentence), _)| (severity, about.lane, sentence))
        .collect();
    lines.cold_sort_by_key(|(severity, ..)| std::cmp::Reverse(*severity));
    lines
}
