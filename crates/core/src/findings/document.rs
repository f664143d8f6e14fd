//! The rules as a document.

use super::rules;
use super::step::Advice;

const JSON: &str = r"
## As JSON

`dozor check --format json` writes one object; `/findings` has its `findings` alone.

| field | meaning |
|---|---|
| `host`, `time`, `wall_ns`, `seconds` | whose it is, the last instant (as text in the host's zone, and in nanoseconds since 1970), for how long it was watched |
| `severity`, `verdict` | `fine`, `notice`, `warning` or `critical`; the conclusion in one sentence |
| `findings[]` | the worst first: `rule`, `severity`, `lane`, `sentence`, `usual` (whether it is so at this hour on most days), `since`, `until` (null while it stands), `culprits[]` (`pid` or null, `name`, `share` in percent of what was measured for the machine, or null), `evidence[]` (`metric` as `--chart` takes it, `value`, `unit`), `explains[]`, `ruled_out[]`, `usually`; `subject` (which of several), `began_before` (it was so already when watching began, and `since` is when that was), `joined[]` (who came later: `since`, `name`, `pid`), `next[]` (what to do: `action` by its name, `with` what, `text`) |
| `resources[]` | `lane` (or `limits`), `state` (`ruled out`: what could judge says that it is fine, and so do its numbers; `not judged yet`; `not known`; `see …`: what is wrong with it stands at that part; else how bad it is), `why` |

`dozor check` ends with the statuses of check plugins: 0 nothing is as bad as `--fail-on` says, 1 a warning, 2 critical, 3 it could not judge (no such
file, nothing to read, less than 10 s), 64 wrong usage. `--format plugin` writes their line: `DOZOR STATE - text | numbers`, with the values of the lanes (network in
bytes a second, heat in degrees; `U` where not known) and how many findings of each severity there are.

A name stands in a finding only where something ties it to the harm in the same units; else it says why there is none.
";

/// `docs/findings.md`.
pub fn markdown() -> String {
    let mut out = String::from(
        "# What stands out\n\nGenerated from the rules; `DOZOR_UPDATE_DOCS=1 cargo test -p dozor --lib` writes it anew.\n\n\
         Every sample is gone through as an experienced person does: CPU, memory, disk, network, heat, then limits. What holds for long enough\n\
         becomes a *finding*: since when, how bad, one sentence with numbers, who does it with the share of what was measured for the machine, the\n\
         numbers that speak for it, what was ruled out. It is over when it has been away for long enough. A cause has its consequences under it: a\n\
         saturated disk explains blocked tasks. Severity goes by harm, not by use: **critical** where somebody waits who should not or something\n\
         will be lost, **warning** what will hurt soon or hurts somebody, **notice** what is worth knowing. All cores busy with nobody waiting is a\n\
         notice. The same samples give the same findings, live and replayed.\n\n\
         `w` shows them over time on the screen, `;` goes to the next one, `dozor check` is the report for the command line and for scripts,\n\
         `dozor export --table findings` the table, `/findings` of `dozor serve` the same as JSON. Rules of your own, and other limits: [settings](settings.md). Limits of three values are for\n\
         notice, warning and critical. `dozor demo --incident NAME` shows what a rule looks for, `--incident all` everything one after another.\n",
    );
    out.push_str(JSON);
    for rule in rules::all() {
        let about = rule.about();
        let held = if about.least > 0.0 {
            format!("after {} s", about.least)
        } else {
            "as soon as it is sure".to_owned()
        };
        out.push_str(&format!(
            "\n## {}\n\n{}: {}; told {held}, over after {} s.\n\n- usually: {}\n- next: {}\n",
            about.name,
            about.lane.name(),
            about.title,
            about.calm,
            about.causes,
            about.next.iter().map(|Advice(_, text)| *text).collect::<Vec<_>>().join("; ")
        ));
        for limit in about.limits {
            out.push_str(&format!("- `{}`: {} ({})\n", limit.name, limit.what, limit.text()));
        }
        if !about.explained_by.is_empty() {
            out.push_str(&format!("- stands under: {}\n", about.explained_by.join(", ")));
        }
    }
    out
}
