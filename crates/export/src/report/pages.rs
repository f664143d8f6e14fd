//! A report as pages of A4: tables break between rows and repeat their headings, a heading stays with what follows it, a chart is
//! never cut.

use super::{Entry, Part, Report, Table};
use crate::chart::{Look, draw};
use crate::font::{cut, width, wrapped};
use crate::hues;
use crate::scene::{Anchor, Face, Scene, Stroke};

const WIDTH: f64 = 595.0;
const HEIGHT: f64 = 842.0;
const MARGIN: f64 = 44.0;
const FOOT: f64 = 40.0;
const LOOK: Look = Look { light: true };
const SIZE: f64 = 9.0;
const LINE: f64 = 12.5;
/// Height up to which a table is not broken.
const SHORT: f64 = 200.0;

/// Pages while they are filled.
struct Pages {
    done: Vec<Scene>,
    y: f64,
    /// Headings with their pages.
    headings: Vec<(String, usize)>,
}

/// The pages of a report.
pub fn pages(report: &Report) -> Vec<Scene> {
    let mut pages = Pages { done: vec![], y: MARGIN, headings: vec![] };
    pages.turn();
    let room = WIDTH - 2.0 * MARGIN;
    for line in wrapped(Face::Bold, 17.0, &report.title, room) {
        pages.y += 20.0;
        pages.words(&line, MARGIN, (Face::Bold, 17.0), LOOK.of(hues::STRONG));
    }
    let page = &mut pages.done[0];
    page.title.clone_from(&report.title);
    page.headings.push((report.title.clone(), 0.0));
    pages.y += 8.0;
    // Room for the contents, which are known at the end.
    let contents = pages.y;
    let sections = report.parts.iter().filter(|part| matches!(part, Part::Heading(_))).count();
    pages.y += sections as f64 * LINE + 10.0;
    for (at, part) in report.parts.iter().enumerate() {
        match part {
            Part::Heading(text) => {
                pages.need(30.0 + report.parts.get(at + 1).map_or(0.0, first_piece));
                pages.heading(text);
            }
            Part::Text(text) => pages.text(text),
            Part::Facts(facts) => pages.facts(facts),
            Part::List(entries) => entries.iter().for_each(|entry| pages.entry(entry)),
            Part::Table(table) => pages.table(table),
            Part::Chart(chart, height) => {
                if let Ok(scene) = draw(chart, (room, *height), LOOK) {
                    pages.need(height + 8.0);
                    let y = pages.y + 4.0;
                    pages.page().inset(scene, (MARGIN, y));
                    pages.y = y + height + 6.0;
                }
            }
        }
    }
    pages.finish(report, contents)
}

/// Height of what must stand below a heading on the same page.
fn first_piece(part: &Part) -> f64 {
    match part {
        Part::Chart(_, height) => height + 8.0,
        Part::Table(_) => 4.0 * LINE + 10.0,
        _ => 2.0 * LINE,
    }
}

impl Pages {
    fn page(&mut self) -> &mut Scene {
        if self.done.is_empty() {
            self.turn();
        }
        let last = self.done.len() - 1;
        &mut self.done[last]
    }

    fn turn(&mut self) {
        self.done.push(Scene::new(WIDTH, HEIGHT, Some(LOOK.ground())));
        self.y = MARGIN;
    }

    /// Turns the page where there is no room.
    fn need(&mut self, height: f64) {
        if self.y + height > HEIGHT - FOOT && self.y > MARGIN {
            self.turn();
        }
    }

    fn words(&mut self, text: &str, x: f64, font: (Face, f64), colour: u32) {
        let y = self.y;
        self.page().words(text, (x, y), Anchor::Start, font, colour);
    }

    fn heading(&mut self, text: &str) {
        self.y += 24.0;
        let y = self.y;
        self.words(text, MARGIN, (Face::Bold, 12.5), LOOK.of(hues::STRONG));
        self.page().headings.push((text.to_owned(), y - 14.0));
        self.headings.push((text.to_owned(), self.done.len()));
        self.y += 5.0;
    }

    fn text(&mut self, text: &str) {
        for line in wrapped(Face::Plain, SIZE, text, WIDTH - 2.0 * MARGIN) {
            self.need(LINE);
            self.y += LINE;
            self.words(&line, MARGIN, (Face::Plain, SIZE), LOOK.of(hues::TEXT));
        }
        self.y += 3.0;
    }

    fn facts(&mut self, facts: &[(String, String)]) {
        let names = facts.iter().map(|(name, _)| width(Face::Plain, SIZE, name)).fold(0.0, f64::max) + 12.0;
        for (name, value) in facts {
            for (at, line) in
                wrapped(Face::Plain, SIZE, value, WIDTH - 2.0 * MARGIN - names).iter().enumerate()
            {
                self.need(LINE);
                self.y += LINE;
                if at == 0 {
                    self.words(name, MARGIN, (Face::Plain, SIZE), LOOK.of(hues::QUIET));
                }
                self.words(line, MARGIN + names, (Face::Plain, SIZE), LOOK.of(hues::TEXT));
            }
        }
    }

    fn entry(&mut self, entry: &Entry) {
        let colour = LOOK.of(entry.severity.map_or(hues::ACCENT, hues::severity));
        let indent = 14.0;
        let when = width(Face::Plain, SIZE, &entry.when) + 8.0;
        let room = WIDTH - 2.0 * MARGIN - indent;
        // The first line has the time in front.
        let first = wrapped(Face::Plain, SIZE, &entry.text, room - when);
        let head = first.first().cloned().unwrap_or_default();
        let rest =
            entry.text.split_whitespace().skip(head.split_whitespace().count()).collect::<Vec<_>>().join(" ");
        let rest = wrapped(Face::Plain, SIZE, &rest, room);
        self.need(LINE * (1 + rest.len()) as f64);
        self.y += LINE;
        self.words(&entry.sign.to_string(), MARGIN, (Face::Bold, SIZE), colour);
        self.words(&entry.when, MARGIN + indent, (Face::Plain, SIZE), LOOK.of(hues::QUIET));
        self.words(&head, MARGIN + indent + when, (Face::Plain, SIZE), LOOK.of(hues::TEXT));
        for line in rest {
            self.y += LINE;
            self.words(&line, MARGIN + indent, (Face::Plain, SIZE), LOOK.of(hues::TEXT));
        }
        self.y += 2.0;
    }

    fn table(&mut self, table: &Table) {
        let widths = widths(table);
        // A short one stays together; of a long one title, headings and two rows.
        let all = (table.rows.len() + 2) as f64 * LINE + 12.0;
        if all < SHORT {
            self.need(all);
        }
        self.need(LINE * (2.0 + table.rows.len().min(2) as f64) + 12.0);
        self.y += LINE + 6.0;
        let title = cut(Face::Bold, SIZE, &table.title, WIDTH - 2.0 * MARGIN);
        self.words(&title, MARGIN, (Face::Bold, SIZE), LOOK.of(hues::STRONG));
        self.headings_of(table, &widths);
        for row in &table.rows {
            let lines: Vec<Vec<String>> = row
                .iter()
                .zip(&widths)
                .map(|(text, width)| wrapped(Face::Plain, SIZE, text, *width))
                .collect();
            let height = lines.iter().map(Vec::len).max().unwrap_or(1).max(1) as f64 * LINE;
            if self.y + height > HEIGHT - FOOT {
                self.turn();
                self.headings_of(table, &widths);
            }
            self.y += LINE;
            let begin = self.y;
            let mut x = MARGIN;
            for (at, (cell, width)) in lines.iter().zip(&widths).enumerate() {
                self.y = begin;
                for line in cell {
                    self.cell(line, x, *width, table.numbers[at], LOOK.of(hues::TEXT));
                    self.y += LINE;
                }
                x += width + GAP;
            }
            self.y = begin + height - LINE;
        }
        self.y += 4.0;
    }

    fn headings_of(&mut self, table: &Table, widths: &[f64]) {
        self.y += LINE;
        let mut x = MARGIN;
        for ((text, width), number) in table.headings.iter().zip(widths).zip(&table.numbers) {
            self.cell(text, x, *width, *number, LOOK.of(hues::QUIET));
            x += width + GAP;
        }
        let y = self.y + 3.0;
        let end = (x - GAP).min(WIDTH - MARGIN);
        self.page().line((MARGIN, y), (end, y), Stroke::plain(LOOK.of(hues::LINE), 0.6));
        self.y += 2.0;
    }

    fn cell(&mut self, text: &str, x: f64, width: f64, number: bool, colour: u32) {
        let y = self.y;
        let (at, anchor) = if number { (x + width, Anchor::End) } else { (x, Anchor::Start) };
        self.page().words(text, (at, y), anchor, (Face::Plain, SIZE), colour);
    }

    /// Page numbers and the contents.
    fn finish(mut self, report: &Report, contents: f64) -> Vec<Scene> {
        let count = self.done.len();
        let (quiet, text) = (LOOK.of(hues::QUIET), LOOK.of(hues::TEXT));
        for (at, page) in self.done.iter_mut().enumerate() {
            let y = HEIGHT - FOOT / 2.0;
            let left = format!("{}   {}", report.host, report.span);
            page.words(left, (MARGIN, y), Anchor::Start, (Face::Plain, 8.0), quiet);
            let number = format!("page {} of {count}", at + 1);
            page.words(number, (WIDTH - MARGIN, y), Anchor::End, (Face::Plain, 8.0), quiet);
        }
        let mut y = contents;
        if let Some(first) = self.done.first_mut() {
            for (heading, page) in &self.headings {
                y += LINE;
                first.words(heading, (MARGIN, y), Anchor::Start, (Face::Plain, SIZE), text);
                let end = MARGIN + 240.0;
                first.words(page.to_string(), (end, y), Anchor::End, (Face::Plain, SIZE), text);
                let from = MARGIN + width(Face::Plain, SIZE, heading) + 6.0;
                let dots = Stroke { dash: Some([0.8, 3.0]), ..Stroke::plain(quiet, 0.8) };
                first.line((from, y - 1.0), (end - 14.0, y - 1.0), dots);
            }
        }
        self.done
    }
}

/// Between two columns.
const GAP: f64 = 14.0;

/// Widths of columns: as wide as what is in them, the widest text gives way where there is too little room.
fn widths(table: &Table) -> Vec<f64> {
    let natural = |at: usize, heading: &String| {
        let cells = table.rows.iter().filter_map(|row| row.get(at)).chain([heading]);
        cells.map(|text| width(Face::Plain, SIZE, text)).fold(0.0, f64::max) + 0.5
    };
    let mut widths: Vec<f64> =
        table.headings.iter().enumerate().map(|(at, heading)| natural(at, heading)).collect();
    let room = WIDTH - 2.0 * MARGIN - GAP * widths.len().saturating_sub(1) as f64;
    loop {
        let over = widths.iter().sum::<f64>() - room;
        if over <= 0.0 {
            return widths;
        }
        let texts = widths.iter_mut().enumerate().filter(|(at, _)| !table.numbers[*at]);
        let Some((_, widest)) = texts.max_by(|a, b| a.1.total_cmp(b.1)) else { return widths };
        if *widest <= 40.0 {
            return widths;
        }
        *widest = (*widest - over).max(*widest * 0.8).max(40.0);
    }
}
