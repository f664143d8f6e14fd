//! Colours by role. A role has a colour for dark and for light backgrounds and an attribute that says the same
//! without any colour.

use dozor_core::lane::{Lane, Severity};
use ratatui::style::{Color, Modifier, Style};

/// How many colours the terminal shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// 24 bits.
    True,
    /// The 256 colours of most terminals.
    Indexed,
    /// The terminal's own 16.
    Sixteen,
    /// None; attributes only.
    Mono,
}

/// Which background the colours are made for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Shade {
    /// Light text on a dark background.
    Dark,
    /// Dark text on a light background.
    Light,
    /// No colour at all.
    Mono,
}

/// What a colour is used for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role {
    /// Ordinary text.
    Text,
    /// What the eye shall find: names, values now.
    Strong,
    /// What recedes: labels, zeroes, unknown values, arguments.
    Quiet,
    /// Rules and ticks; never text.
    Line,
    /// Our own colour: keys, titles, the time cursor.
    Accent,
    /// A resource.
    Lane(Lane),
    /// How bad it is.
    Severity(Severity),
}

/// Backgrounds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ground {
    /// The screen.
    Screen,
    /// The top line, the hint line, the chosen lane, sheets.
    Panel,
    /// The selected row.
    Selected,
    /// The ordering column.
    Ordered,
}

/// A complete set of colours.
#[derive(Clone, Copy, Debug)]
pub struct Theme {
    /// Colours the terminal has.
    pub depth: Depth,
    /// Background they are made for.
    pub light: bool,
}

struct Paint {
    dark: u32,
    light: u32,
    ansi: Color,
}

const fn paint(dark: u32, light: u32, ansi: Color) -> Paint {
    Paint { dark, light, ansi }
}

fn role_paint(role: Role) -> Paint {
    match role {
        Role::Text => paint(0x00c8_d0d8, 0x002b_3138, Color::Reset),
        Role::Strong => paint(0x00f2_f5f7, 0x0010_1418, Color::Reset),
        Role::Quiet => paint(0x0090_9ba6, 0x0059_626c, Color::Reset),
        Role::Line => paint(0x003a_434c, 0x00c3_c9cf, Color::Reset),
        Role::Accent => paint(0x00e6_ad52, 0x0085_5200, Color::Yellow),
        Role::Lane(Lane::Cpu) => paint(0x005a_c4b4, 0x0004_695c, Color::Cyan),
        Role::Lane(Lane::Memory) => paint(0x00a9_8be0, 0x0066_43ad, Color::Magenta),
        Role::Lane(Lane::Disk) => paint(0x00e0_a848, 0x0084_5400, Color::Yellow),
        Role::Lane(Lane::Network) => paint(0x0064_9fe0, 0x001c_5aa8, Color::Blue),
        Role::Lane(Lane::Heat) => paint(0x00e0_7380, 0x00a8_2c40, Color::Red),
        Role::Severity(Severity::Fine) => paint(0x0090_9ba6, 0x0059_626c, Color::Reset),
        Role::Severity(Severity::Notice) => paint(0x00b9_c46a, 0x005a_6100, Color::Reset),
        Role::Severity(Severity::Warning) => paint(0x00f2_9a4a, 0x0098_4700, Color::Yellow),
        Role::Severity(Severity::Critical) => paint(0x00ff_6b6b, 0x00b8_1c1c, Color::Red),
    }
}

fn ground_paint(ground: Ground) -> (u32, u32) {
    match ground {
        Ground::Screen => (0x0010_1418, 0x00fa_f9f6),
        Ground::Panel => (0x001a_2129, 0x00ec_ebe6),
        Ground::Selected => (0x0033_2b1d, 0x00f3_e3c2),
        Ground::Ordered => (0x0020_1d18, 0x00f5_efe0),
    }
}

impl Theme {
    /// Finds out what the terminal can do from its environment variables, given by a lookup.
    pub fn detect(shade: Option<Shade>, variable: impl Fn(&str) -> Option<String>) -> Theme {
        let is = |name: &str, wanted: &[&str]| {
            variable(name).is_some_and(|value| wanted.iter().any(|word| value.contains(word)))
        };
        let depth = if shade == Some(Shade::Mono)
            || variable("NO_COLOR").is_some_and(|value| !value.is_empty())
            || is("TERM", &["dumb", "vt100", "vt220", "-m"])
        {
            Depth::Mono
        } else if is("COLORTERM", &["truecolor", "24bit"]) || is("TERM", &["direct"]) {
            Depth::True
        } else if is("TERM", &["256color"]) {
            Depth::Indexed
        } else {
            Depth::Sixteen
        };
        Theme { depth, light: shade == Some(Shade::Light) }
    }

    /// Style of text in a role.
    pub fn role(self, role: Role) -> Style {
        let style = match role {
            Role::Strong => Style::new().add_modifier(Modifier::BOLD),
            Role::Severity(Severity::Critical) => Style::new().add_modifier(Modifier::BOLD),
            Role::Accent if self.depth == Depth::Mono => Style::new().add_modifier(Modifier::BOLD),
            Role::Quiet | Role::Line if matches!(self.depth, Depth::Sixteen | Depth::Mono) => {
                Style::new().add_modifier(Modifier::DIM)
            }
            _ => Style::new(),
        };
        match self.colour(role) {
            Some(colour) => style.fg(colour),
            None => style,
        }
    }

    fn colour(self, role: Role) -> Option<Color> {
        let paint = role_paint(role);
        let rgb = if self.light { paint.light } else { paint.dark };
        match self.depth {
            Depth::True => Some(true_colour(rgb)),
            Depth::Indexed => Some(Color::Indexed(nearest_indexed(rgb))),
            Depth::Sixteen => Some(paint.ansi),
            Depth::Mono => None,
        }
    }

    /// Style of a background.
    pub fn ground(self, ground: Ground) -> Style {
        let (dark, light) = ground_paint(ground);
        let rgb = if self.light { light } else { dark };
        match self.depth {
            Depth::True => Style::new().bg(true_colour(rgb)),
            Depth::Indexed => Style::new().bg(Color::Indexed(nearest_indexed(rgb))),
            // Without fine shades only the selected row stands out, by exchanging the two colours.
            _ if ground == Ground::Selected => Style::new().add_modifier(Modifier::REVERSED),
            _ => Style::new(),
        }
    }

    /// A lane's hue, brought near the background while nothing is wrong.
    pub fn strip(self, lane: Lane, severity: Severity) -> Style {
        let paint = role_paint(Role::Lane(lane));
        if severity != Severity::Fine || self.depth != Depth::True {
            return self.role(Role::Lane(lane));
        }
        let (dark, light) = ground_paint(Ground::Screen);
        let (hue, ground) = if self.light { (paint.light, light) } else { (paint.dark, dark) };
        let mix = |shift: u32| (((hue >> shift & 0xff) * 13 + (ground >> shift & 0xff) * 7) / 20) << shift;
        Style::new().fg(true_colour(mix(16) | mix(8) | mix(0)))
    }
}

fn true_colour(rgb: u32) -> Color {
    Color::Rgb((rgb >> 16) as u8, (rgb >> 8) as u8, rgb as u8)
}

/// The nearest of the 256 colours: the 6×6×6 cube or the greys.
fn nearest_indexed(rgb: u32) -> u8 {
    const STEPS: [i32; 6] = [0, 95, 135, 175, 215, 255];
    let parts = [rgb >> 16 & 0xff, rgb >> 8 & 0xff, rgb & 0xff].map(|part| part as i32);
    let distance = |candidate: [i32; 3]| -> i32 {
        parts.iter().zip(candidate).map(|(part, other)| (part - other) * (part - other)).sum()
    };
    let cube = (0..216).map(|at| (16 + at as u8, [STEPS[at / 36], STEPS[at / 6 % 6], STEPS[at % 6]]));
    let greys = (0..24).map(|at| (232 + at as u8, [8 + 10 * at; 3]));
    let all = cube.chain(greys);
    all.min_by_key(|(_, colour)| distance(*colour)).map_or(7, |(index, _)| index)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn luminance(rgb: u32) -> f64 {
        let part = |shift: u32| {
            let value = f64::from(rgb >> shift & 0xff) / 255.0;
            if value <= 0.040_45 { value / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
        };
        0.2126 * part(16) + 0.7152 * part(8) + 0.0722 * part(0)
    }

    fn contrast(a: u32, b: u32) -> f64 {
        let (a, b) = (luminance(a), luminance(b));
        (a.max(b) + 0.05) / (a.min(b) + 0.05)
    }

    #[test]
    fn text_of_every_role_can_be_read_on_every_ground() {
        let severities = [Severity::Fine, Severity::Notice, Severity::Warning, Severity::Critical];
        let roles = [Role::Text, Role::Strong, Role::Quiet, Role::Accent].into_iter();
        let roles = roles.chain(Lane::ALL.map(Role::Lane)).chain(severities.map(Role::Severity));
        for role in roles {
            for ground in [Ground::Screen, Ground::Panel, Ground::Selected, Ground::Ordered] {
                let (paint, (dark, light)) = (role_paint(role), ground_paint(ground));
                for (text, ground_colour) in [(paint.dark, dark), (paint.light, light)] {
                    let ratio = contrast(text, ground_colour);
                    assert!(ratio >= 4.5, "{role:?} on {ground:?}: {ratio:.2}");
                }
            }
        }
    }

    #[test]
    fn the_terminal_is_found_out_from_its_variables() {
        let detect = |pairs: &[(&str, &str)]| {
            let find =
                |name: &str| pairs.iter().find(|(key, _)| *key == name).map(|(_, value)| (*value).to_owned());
            Theme::detect(None, find).depth
        };
        assert_eq!(detect(&[("TERM", "xterm-256color"), ("COLORTERM", "truecolor")]), Depth::True);
        assert_eq!(detect(&[("TERM", "screen-256color")]), Depth::Indexed);
        assert_eq!(detect(&[("TERM", "linux")]), Depth::Sixteen);
        assert_eq!(detect(&[("TERM", "xterm-256color"), ("NO_COLOR", "1")]), Depth::Mono);
        assert_eq!(detect(&[("TERM", "vt100")]), Depth::Mono);
    }
}
