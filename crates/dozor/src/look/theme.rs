//! Colours by role. A role has a colour for dark and for light backgrounds and an attribute that says the same
//! without any colour.

use dozor_core::lane::{Lane, Severity};
use dozor_export::hues::{self, Pair};
use ratatui::style::{Color, Modifier, Style};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex, PoisonError};

/// How many colours the terminal shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Depth {
    /// 24 bits.
    True,
    /// The 256 colours of most terminals.
    #[value(name = "256")]
    Indexed,
    /// The terminal's own 16.
    #[value(name = "16")]
    Sixteen,
    /// None; attributes only.
    #[value(name = "none")]
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

/// Roles by the names that they have in the files of own themes.
pub const ROLES: [(&str, Role, &str); 14] = [
    ("text", Role::Text, "ordinary text"),
    ("strong", Role::Strong, "names, values now"),
    ("quiet", Role::Quiet, "labels, zeroes, unknown values, arguments"),
    ("line", Role::Line, "rules and ticks"),
    ("accent", Role::Accent, "keys, titles, the time cursor, the ordering column"),
    ("cpu", Role::Lane(Lane::Cpu), "the lane and all that belongs to it"),
    ("memory", Role::Lane(Lane::Memory), "the same"),
    ("disk", Role::Lane(Lane::Disk), "the same"),
    ("network", Role::Lane(Lane::Network), "the same"),
    ("heat", Role::Lane(Lane::Heat), "the same"),
    ("fine", Role::Severity(Severity::Fine), "nothing is wrong"),
    ("notice", Role::Severity(Severity::Notice), "worth a look"),
    ("warning", Role::Severity(Severity::Warning), "soon a problem"),
    ("critical", Role::Severity(Severity::Critical), "a problem"),
];

/// Backgrounds by the names that they have in the files of own themes.
pub const GROUNDS: [(&str, Ground, &str); 4] = [
    ("screen", Ground::Screen, "the screen"),
    ("panel", Ground::Panel, "the top line, the hint line, the chosen lane, sheets"),
    ("selected", Ground::Selected, "the selected row"),
    ("ordered", Ground::Ordered, "the ordering column"),
];

/// Colours that somebody chose; what is not among them is that of the theme that they are laid over.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Own {
    /// Its name.
    pub name: String,
    /// Laid over the theme for a light background.
    pub light: bool,
    /// Colours of roles.
    pub roles: Vec<(Role, u32)>,
    /// Colours of backgrounds.
    pub grounds: Vec<(Ground, u32)>,
}

/// What the environment says of the terminal.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Found {
    coloured: Depth,
    unwanted: bool,
    light: bool,
}

/// A complete set of colours.
#[derive(Clone, Debug)]
pub struct Theme {
    /// Colours the terminal has.
    pub depth: Depth,
    /// Background they are made for.
    pub light: bool,
    /// Colours of somebody's own.
    pub own: Option<Arc<Own>>,
}

struct Paint {
    dark: u32,
    light: u32,
    /// Of the terminal's own 16 colours, on a dark and on a light background.
    ansi: [Color; 2],
}

const fn paint([dark, light]: Pair, ansi: [Color; 2]) -> Paint {
    Paint { dark, light, ansi }
}

/// The terminal's own colour of text, whatever it is.
const USUAL: [Color; 2] = [Color::Reset; 2];

fn role_paint(role: Role) -> Paint {
    // Bright colours on dark ground, dark ones on light ground; where no dark one can be read, the usual colour.
    match role {
        Role::Text => paint(hues::TEXT, USUAL),
        Role::Strong => paint(hues::STRONG, USUAL),
        Role::Quiet => paint(hues::QUIET, USUAL),
        Role::Line => paint(hues::LINE, USUAL),
        Role::Accent => paint(hues::ACCENT, [Color::LightYellow, Color::Blue]),
        Role::Lane(lane) => {
            let ansi = match lane {
                Lane::Cpu => [Color::LightCyan, Color::Reset],
                Lane::Memory => [Color::LightMagenta, Color::Reset],
                Lane::Disk => [Color::LightYellow, Color::Reset],
                Lane::Network => [Color::LightGreen, Color::Blue],
                Lane::Heat => [Color::LightRed, Color::Red],
            };
            paint(hues::lane(lane), ansi)
        }
        Role::Severity(severity) => {
            let ansi = match severity {
                Severity::Fine | Severity::Notice => USUAL,
                Severity::Warning => [Color::LightYellow, Color::Red],
                Severity::Critical => [Color::LightRed, Color::Red],
            };
            paint(hues::severity(severity), ansi)
        }
    }
}

/// Backgrounds among the 256 colours, dark and light: the nearest ones would be too near to the text.
fn ground_indexed(ground: Ground) -> [u8; 2] {
    match ground {
        Ground::Screen => [233, 231],
        Ground::Panel => [235, 255],
        Ground::Selected => [236, 230],
        Ground::Ordered => [234, 255],
    }
}

fn ground_paint(ground: Ground) -> (u32, u32) {
    let [dark, light] = match ground {
        Ground::Screen => hues::SCREEN,
        Ground::Panel => hues::PANEL,
        Ground::Selected => hues::SELECTED,
        Ground::Ordered => hues::ORDERED,
    };
    (dark, light)
}

impl Found {
    /// Finds out what the terminal can do from its environment variables, given by a lookup.
    pub fn by(variable: impl Fn(&str) -> Option<String>) -> Found {
        let is = |name: &str, wanted: &[&str]| {
            variable(name).is_some_and(|value| wanted.iter().any(|word| value.contains(word)))
        };
        // Multiplexers and remote logins often drop COLORTERM; some names of terminals say it as well.
        let coloured = if is("TERM", &["dumb", "vt100", "vt220", "-m"]) {
            Depth::Mono
        } else if is("COLORTERM", &["truecolor", "24bit"])
            || is("TERM", &["direct", "truecolor", "kitty", "alacritty", "foot", "wezterm", "ghostty"])
        {
            Depth::True
        } else if is("TERM", &["256color"]) {
            Depth::Indexed
        } else {
            Depth::Sixteen
        };
        // Some terminals name their background: the last of the numbers is one of the 16 colours.
        let background = variable("COLORFGBG").and_then(|value| value.rsplit(';').next()?.parse::<u8>().ok());
        let light = background.is_some_and(|number| number == 7 || (9..=15).contains(&number));
        let unwanted = variable("NO_COLOR").is_some_and(|value| !value.is_empty());
        Found { coloured, unwanted, light }
    }

    /// The theme for it; what somebody set goes before what was found.
    pub fn theme(self, shade: Option<Shade>, depth: Option<Depth>) -> Theme {
        let light = match shade {
            Some(Shade::Light) => true,
            Some(Shade::Dark) => false,
            _ => self.light,
        };
        let depth = match (shade, depth) {
            (Some(Shade::Mono), _) => Depth::Mono,
            (_, Some(depth)) => depth,
            _ if self.unwanted => Depth::Mono,
            _ => self.coloured,
        };
        Theme::new(depth, light)
    }

    /// The same, where somebody asks for colours although the environment has them switched off.
    #[must_use]
    pub fn wanting_colours(self) -> Found {
        Found { unwanted: false, ..self }
    }
}

impl Theme {
    /// A theme of this depth.
    pub fn new(depth: Depth, light: bool) -> Theme {
        Theme { depth, light, own: None }
    }

    /// With somebody's own colours.
    #[must_use]
    pub fn with(self, own: Arc<Own>) -> Theme {
        Theme { light: own.light, own: Some(own), ..self }
    }

    /// Style of text in a role.
    pub fn role(&self, role: Role) -> Style {
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

    fn colour(&self, role: Role) -> Option<Color> {
        let paint = role_paint(role);
        let own = self.own.as_ref().and_then(|own| own.roles.iter().find(|(other, _)| *other == role));
        let rgb = match own {
            Some((_, rgb)) => *rgb,
            None if self.light => paint.light,
            None => paint.dark,
        };
        match self.depth {
            Depth::True => Some(true_colour(rgb)),
            // Whoever chose a colour has looked at it.
            Depth::Indexed if own.is_some() => Some(Color::Indexed(nearest_indexed(rgb, false, self.light))),
            // Rules and ticks are no text.
            Depth::Indexed => Some(Color::Indexed(nearest_indexed(rgb, role != Role::Line, self.light))),
            Depth::Sixteen => Some(paint.ansi[usize::from(self.light)]),
            Depth::Mono => None,
        }
    }

    /// Style of a background.
    pub fn ground(&self, ground: Ground) -> Style {
        let (dark, light) = ground_paint(ground);
        let own = self.own.as_ref().and_then(|own| own.grounds.iter().find(|(other, _)| *other == ground));
        let rgb = match own {
            Some((_, rgb)) => *rgb,
            None if self.light => light,
            None => dark,
        };
        match self.depth {
            Depth::True => Style::new().bg(true_colour(rgb)),
            Depth::Indexed if own.is_some() => {
                Style::new().bg(Color::Indexed(nearest_indexed(rgb, false, self.light)))
            }
            Depth::Indexed => {
                Style::new().bg(Color::Indexed(ground_indexed(ground)[usize::from(self.light)]))
            }
            // Without fine shades only the selected row stands out, by exchanging the two colours.
            _ if ground == Ground::Selected => Style::new().add_modifier(Modifier::REVERSED),
            _ => Style::new(),
        }
    }

    /// A lane's hue, brought near the background while nothing is wrong.
    pub fn strip(&self, lane: Lane, severity: Severity) -> Style {
        let paint = role_paint(Role::Lane(lane));
        if self.depth == Depth::Sixteen && (self.light || severity == Severity::Fine) {
            // Strips are no text: a hue that would be too pale or too dark to read tells the lanes apart.
            return Style::new().fg(match lane {
                Lane::Cpu => Color::Cyan,
                Lane::Memory => Color::Magenta,
                Lane::Disk => Color::Yellow,
                Lane::Network => {
                    if self.light {
                        Color::Blue
                    } else {
                        Color::Green
                    }
                }
                Lane::Heat => Color::Red,
            });
        }
        if severity != Severity::Fine || !matches!(self.depth, Depth::True | Depth::Indexed) {
            return self.role(Role::Lane(lane));
        }
        let (dark, light) = ground_paint(Ground::Screen);
        let (mut hue, mut ground) = if self.light { (paint.light, light) } else { (paint.dark, dark) };
        if let Some(own) = &self.own {
            let of_lane = own.roles.iter().find(|(role, _)| *role == Role::Lane(lane));
            hue = of_lane.map_or(hue, |(_, rgb)| *rgb);
            let of_screen = own.grounds.iter().find(|(other, _)| *other == Ground::Screen);
            ground = of_screen.map_or(ground, |(_, rgb)| *rgb);
        }
        let mix = |shift: u32| (((hue >> shift & 0xff) * 13 + (ground >> shift & 0xff) * 7) / 20) << shift;
        let mixed = mix(16) | mix(8) | mix(0);
        Style::new().fg(match self.depth {
            Depth::True => true_colour(mixed),
            _ => Color::Indexed(nearest_indexed(mixed, false, self.light)),
        })
    }
}

fn true_colour(rgb: u32) -> Color {
    Color::Rgb((rgb >> 16) as u8, (rgb >> 8) as u8, rgb as u8)
}

/// Red, green and blue of one of the 240 fixed colours of most terminals: the 6×6×6 cube and the greys.
fn indexed_rgb(index: u8) -> u32 {
    const STEPS: [u32; 6] = [0, 95, 135, 175, 215, 255];
    let rgb = |red: u32, green: u32, blue: u32| red << 16 | green << 8 | blue;
    match index {
        16..232 => {
            let at = usize::from(index - 16);
            rgb(STEPS[at / 36], STEPS[at / 6 % 6], STEPS[at % 6])
        }
        232.. => {
            let grey = 8 + 10 * u32::from(index - 232);
            rgb(grey, grey, grey)
        }
        _ => 0,
    }
}

fn luminance(rgb: u32) -> f64 {
    let part = |shift: u32| {
        let value = f64::from(rgb >> shift & 0xff) / 255.0;
        if value <= 0.040_45 { value / 12.92 } else { ((value + 0.055) / 1.055).powf(2.4) }
    };
    0.2126 * part(16) + 0.7152 * part(8) + 0.0722 * part(0)
}

/// Contrast of two colours as the Web Content Accessibility Guidelines define it: 1 to 21.
fn contrast(a: u32, b: u32) -> f64 {
    let (a, b) = (luminance(a), luminance(b));
    (a.max(b) + 0.05) / (a.min(b) + 0.05)
}

/// Least contrast of text.
const READABLE: f64 = 4.5;

/// The nearest of the 256 colours. For text only those that can be read on all grounds: the cube is so coarse that
/// the nearest one may be too pale. Found once for each colour, since it takes a walk over all.
fn nearest_indexed(rgb: u32, text: bool, light: bool) -> u8 {
    static FOUND: Mutex<BTreeMap<(u32, bool, bool), u8>> = Mutex::new(BTreeMap::new());
    const GROUNDS: [Ground; 4] = [Ground::Screen, Ground::Panel, Ground::Selected, Ground::Ordered];
    let parts = |rgb: u32| [rgb >> 16 & 0xff, rgb >> 8 & 0xff, rgb & 0xff].map(|part| part as i32);
    let distance = |index: u8| -> i32 {
        parts(rgb).iter().zip(parts(indexed_rgb(index))).map(|(a, b)| (a - b) * (a - b)).sum()
    };
    let grounds = GROUNDS.map(|ground| indexed_rgb(ground_indexed(ground)[usize::from(light)]));
    let serves =
        |index: &u8| !text || grounds.iter().all(|ground| contrast(indexed_rgb(*index), *ground) >= READABLE);
    let mut found = FOUND.lock().unwrap_or_else(PoisonError::into_inner);
    *found
        .entry((rgb, text, light))
        .or_insert_with(|| (16..=255).filter(serves).min_by_key(|index| distance(*index)).unwrap_or(7))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The 16 colours as most terminals show them.
    fn ansi_rgb(colour: Color, light: bool) -> u32 {
        match colour {
            Color::Reset if light => 0,
            Color::Reset => 0x00e5_e5e5,
            Color::Red => 0x00cd_0000,
            Color::Blue => 0x0000_00ee,
            Color::LightRed => 0x00ff_0000,
            Color::LightYellow => 0x00ff_ff00,
            Color::LightGreen => 0x0000_ff00,
            Color::LightMagenta => 0x00ff_00ff,
            Color::LightCyan => 0x0000_ffff,
            other => panic!("{other:?} is not among the colours for text"),
        }
    }

    #[test]
    fn text_of_every_role_can_be_read_on_every_ground() {
        let severities = [Severity::Fine, Severity::Notice, Severity::Warning, Severity::Critical];
        let roles = [Role::Text, Role::Strong, Role::Quiet, Role::Accent].into_iter();
        let roles = roles.chain(Lane::ALL.map(Role::Lane)).chain(severities.map(Role::Severity));
        for role in roles {
            let paint = role_paint(role);
            for ground in [Ground::Screen, Ground::Panel, Ground::Selected, Ground::Ordered] {
                let (dark, light) = ground_paint(ground);
                let indexed = ground_indexed(ground).map(indexed_rgb);
                for (text, ground_colour, indexed, is_light) in
                    [(paint.dark, dark, indexed[0], false), (paint.light, light, indexed[1], true)]
                {
                    let ratio = contrast(text, ground_colour);
                    assert!(ratio >= 4.5, "{role:?} on {ground:?}: {ratio:.2}");
                    let ratio = contrast(indexed_rgb(nearest_indexed(text, true, is_light)), indexed);
                    assert!(ratio >= 4.5, "{role:?} on {ground:?} in 256 colours: {ratio:.2}");
                }
            }
            for (light, ground) in [(false, 0), (true, 0x00ff_ffff)] {
                let ratio = contrast(ansi_rgb(paint.ansi[usize::from(light)], light), ground);
                assert!(ratio >= 4.5, "{role:?} in 16 colours, light {light}: {ratio:.2}");
            }
        }
    }

    fn found(shade: Option<Shade>, depth: Option<Depth>, pairs: &[(&str, &str)]) -> Theme {
        let find =
            |name: &str| pairs.iter().find(|(key, _)| *key == name).map(|(_, value)| (*value).to_owned());
        Found::by(find).theme(shade, depth)
    }

    #[test]
    fn the_terminal_is_found_out_from_its_variables() {
        let detect = |pairs: &[(&str, &str)]| found(None, None, pairs).depth;
        assert_eq!(detect(&[("TERM", "xterm-256color"), ("COLORTERM", "truecolor")]), Depth::True);
        assert_eq!(detect(&[("TERM", "screen-256color")]), Depth::Indexed, "inside a multiplexer");
        assert_eq!(detect(&[("TERM", "xterm-256color"), ("SSH_TTY", "/dev/pts/3")]), Depth::Indexed);
        assert_eq!(detect(&[("TERM", "xterm-direct")]), Depth::True);
        assert_eq!(detect(&[("TERM", "linux")]), Depth::Sixteen);
        assert_eq!(detect(&[("TERM", "xterm-256color"), ("NO_COLOR", "1")]), Depth::Mono);
        assert_eq!(detect(&[("TERM", "xterm-256color"), ("NO_COLOR", "")]), Depth::Indexed);
        assert_eq!(detect(&[("TERM", "vt100")]), Depth::Mono);
        assert!(found(None, None, &[("COLORFGBG", "0;15")]).light);
        assert!(!found(None, None, &[("COLORFGBG", "15;default;0")]).light);
    }

    #[test]
    fn what_was_set_goes_before_what_is_found() {
        let terminal = [("TERM", "xterm-256color"), ("NO_COLOR", "1"), ("COLORFGBG", "0;15")];
        assert_eq!(found(None, Some(Depth::True), &terminal).depth, Depth::True);
        assert_eq!(found(Some(Shade::Mono), Some(Depth::True), &terminal).depth, Depth::Mono);
        assert!(!found(Some(Shade::Dark), None, &terminal).light);
    }
}
