//! The colours of Dozor, for dark and for light grounds: one hue for each resource, used everywhere for it. The screen's themes
//! and all drawings take them from here.

use dozor_core::lane::{Lane, Severity};

/// A colour as 0xRRGGBB.
pub type Rgb = u32;

/// A colour for dark grounds and one for light grounds.
pub type Pair = [Rgb; 2];

/// Ordinary text.
pub const TEXT: Pair = [0x00c8_d0d8, 0x002b_3138];
/// What the eye shall find.
pub const STRONG: Pair = [0x00f2_f5f7, 0x0010_1418];
/// What recedes.
pub const QUIET: Pair = [0x0090_9ba6, 0x0059_626c];
/// Rules and ticks; never text.
pub const LINE: Pair = [0x003a_434c, 0x00c3_c9cf];
/// Our own colour: titles, the time cursor.
pub const ACCENT: Pair = [0x00e6_ad52, 0x0085_5200];
/// The ground of a screen.
pub const SCREEN: Pair = [0x0010_1418, 0x00fa_f9f6];
/// The ground of what stands over it.
pub const PANEL: Pair = [0x001a_2129, 0x00ec_ebe6];
/// The ground of the selected row.
pub const SELECTED: Pair = [0x0033_2b1d, 0x00f3_e3c2];
/// The ground of the ordering column.
pub const ORDERED: Pair = [0x0020_1d18, 0x00f5_efe0];

/// The hue of a resource.
pub const fn lane(lane: Lane) -> Pair {
    match lane {
        Lane::Cpu => [0x005a_c4b4, 0x0004_695c],
        Lane::Memory => [0x00a9_8be0, 0x0066_43ad],
        Lane::Disk => [0x00e0_a848, 0x0084_5400],
        Lane::Network => [0x0064_9fe0, 0x001c_5aa8],
        Lane::Heat => [0x00e0_7380, 0x00a8_2c40],
    }
}

/// The colour of a severity.
pub const fn severity(severity: Severity) -> Pair {
    match severity {
        Severity::Fine => QUIET,
        Severity::Notice => [0x00b9_c46a, 0x005a_6100],
        Severity::Warning => [0x00f2_9a4a, 0x0098_4700],
        Severity::Critical => [0x00ff_6b6b, 0x00b8_1c1c],
    }
}

/// The colours as variables of a page's style, for light and for dark grounds, by the names that they have everywhere: `--text`, `--disk`,
/// `--warning` and so on. Paper is white, a screen is not.
pub fn style(light_ground: Rgb) -> String {
    let variables = |light: usize| {
        let roles = [
            ("text", TEXT),
            ("strong", STRONG),
            ("quiet", QUIET),
            ("line", LINE),
            ("accent", ACCENT),
            ("panel", PANEL),
            ("selected", SELECTED),
            ("ground", [SCREEN[0], light_ground]),
            ("fine", severity(Severity::Fine)),
            ("notice", severity(Severity::Notice)),
            ("warning", severity(Severity::Warning)),
            ("critical", severity(Severity::Critical)),
        ];
        let lanes = Lane::ALL.map(|of| (of.name(), lane(of)));
        let all = roles.into_iter().chain(lanes);
        all.fold(String::new(), |text, (name, pair)| format!("{text}--{name}:#{:06x};", pair[light]))
    };
    format!(
        ":root{{color-scheme:light dark;{}}}\n@media(prefers-color-scheme:dark){{:root{{{}}}}}\n",
        variables(1),
        variables(0)
    )
}

/// The resource that a metric belongs to, by its name; none where it is of no single one.
pub fn lane_of(alias: &str, name: &str) -> Option<Lane> {
    let begins = |words: &[&str]| {
        words.iter().any(|word| alias.starts_with(word) || name.contains(&format!(".{word}")))
    };
    if begins(&["core_temp", "sensor", "heat", "temperature", "battery", "fan"]) {
        Some(Lane::Heat)
    } else if begins(&["net", "tcp", "udp", "wifi", "connections", "socket", "remote"]) {
        Some(Lane::Network)
    } else if begins(&[
        "disk",
        "fs",
        "read",
        "write",
        "dirtied",
        "filesystem",
        "pressure.io",
        "files",
        "mount",
    ]) {
        Some(Lane::Disk)
    } else if begins(&[
        "mem",
        "swap",
        "rss",
        "pss",
        "virtual",
        "shared",
        "growth",
        "faults",
        "paging",
        "oom",
        "pressure.memory",
    ]) {
        Some(Lane::Memory)
    } else if begins(&[
        "cpu",
        "load",
        "tasks",
        "threads",
        "forks",
        "switches",
        "irq",
        "softirq",
        "interrupts",
        "core",
        "pressure.cpu",
        "nice",
        "unaccounted",
    ]) {
        Some(Lane::Cpu)
    } else {
        None
    }
}

/// A colour between two: 0 is the first, 1 the second.
pub fn mixed(a: Rgb, b: Rgb, part: f64) -> Rgb {
    let part = part.clamp(0.0, 1.0);
    let channel = |shift: u32| {
        let (a, b) = (f64::from((a >> shift) & 255), f64::from((b >> shift) & 255));
        ((a + (b - a) * part).round() as u32) << shift
    };
    channel(16) | channel(8) | channel(0)
}

/// Contrast of two colours, from 1 to 21; WCAG 2.
pub fn contrast(a: Rgb, b: Rgb) -> f64 {
    let (a, b) = (luminance(a) + 0.05, luminance(b) + 0.05);
    a.max(b) / a.min(b)
}

/// How bright a colour is to the eye, from 0 to 1; the relative luminance of WCAG 2.
pub fn luminance(colour: Rgb) -> f64 {
    let channel = |shift: u32| {
        let value = f64::from((colour >> shift) & 255) / 255.0;
        if value <= 0.040_45 { value / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
    };
    0.2126 * channel(16) + 0.7152 * channel(8) + 0.0722 * channel(0)
}
