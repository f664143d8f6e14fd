//! What is typed: narrowing, going to a process, notes, names, values of settings.

use super::{Effect, MESSAGE, rows, settings_sheet, time, views};
use crate::sheets::prompt::{Prompt, Purpose};
use crate::state::State;
use dozor_core::expr::{Expression, Node};
use dozor_core::lane::Severity;
use dozor_core::recording::MarkKind;
use ratatui::crossterm::event::{KeyCode, KeyEvent};
use std::time::Instant;

/// Expressions that are remembered.
const REMEMBERED: usize = 50;

pub(super) fn begin_narrowing(state: &mut State) {
    let before = state.narrowing.expression.clone();
    let text = before.as_ref().map_or(String::new(), |expression| expression.text().to_owned());
    state.prompt = Some(Prompt::new(Purpose::Narrow(before), &text));
}

pub(super) fn begin_going(state: &mut State) {
    state.prompt = Some(Prompt::new(Purpose::GoTo(state.find.clone()), ""));
}

pub(super) fn begin_note(state: &mut State) {
    if let Some(sample) = &state.sample {
        state.prompt = Some(Prompt::new(Purpose::Note(sample.now.wall_ns()), ""));
    }
}

pub(super) fn begin_time(state: &mut State) {
    if !state.timeline.is_empty() {
        state.prompt = Some(Prompt::new(Purpose::Time, ""));
    }
}

pub(super) fn pasted(state: &mut State, text: &str, now: Instant) {
    if let Some(prompt) = &mut state.prompt {
        prompt.line.insert_text(text);
        typed(state, now);
        return;
    }
    // Lists are searched by what is pasted as by what is typed.
    if let Some(sheet) = &mut state.sheet
        && let Some(line) = sheet.typed()
    {
        line.insert_text(text);
        *sheet.at() = 0;
    }
}

pub(super) fn key(state: &mut State, key: &KeyEvent, now: Instant) -> Vec<Effect> {
    let Some(prompt) = &mut state.prompt else { return vec![] };
    match key.code {
        KeyCode::Enter => return accept(state, now),
        KeyCode::Esc => give_up(state),
        KeyCode::Tab | KeyCode::BackTab => {
            if prompt.completions.is_empty() {
                state.offer_completions(true);
            } else {
                prompt.complete(key.code == KeyCode::Tab);
                use_line(state, now);
            }
        }
        KeyCode::Up | KeyCode::Down if prompt.purpose.is_expression() => {
            prompt.recall(&state.history, key.code == KeyCode::Up);
            use_line(state, now);
        }
        _ => {
            if prompt.line.key(key) {
                typed(state, now);
            }
        }
    }
    vec![]
}

fn typed(state: &mut State, now: Instant) {
    state.offer_completions(false);
    use_line(state, now);
}

/// Shows at once what a typed expression does. Where it is wrong the last good one stays.
fn use_line(state: &mut State, now: Instant) {
    let Some(prompt) = &mut state.prompt else { return };
    prompt.problem = None;
    if !prompt.purpose.is_expression() {
        return;
    }
    let text = prompt.line.text();
    let parsed = if text.trim().is_empty() { Ok(None) } else { Expression::parse(&text).map(Some) };
    let expression = match parsed {
        Ok(expression) => expression,
        Err(error) => {
            prompt.error = Some(error);
            prompt.nobody = false;
            // What looked like text so far was the beginning of something else.
            if let Purpose::Narrow(before) = prompt.purpose.clone()
                && let Some(now) = &state.narrowing.expression
                && matches!(now.tree(), Node::Text(_))
                && text.starts_with(now.text().trim_end())
            {
                narrow(state, before);
            }
            return;
        }
    };
    prompt.error = None;
    if let Purpose::Narrow(_) = prompt.purpose {
        let good = state.narrowing.expression.clone();
        narrow(state, expression);
        // Half a word often means nobody: the rows stay until the line is done.
        let nobody = state.table.lines.is_empty();
        if nobody {
            narrow(state, good);
        }
        if let Some(prompt) = &mut state.prompt {
            prompt.nobody = nobody;
        }
    } else {
        state.find = expression;
        rows::go_to_match(state, rows::Way::Here, now);
    }
}

fn narrow(state: &mut State, expression: Option<Expression>) {
    if state.narrowing.expression != expression {
        state.narrowing.expression = expression;
        state.scroll = 0;
        state.rank_anew();
    }
}

fn give_up(state: &mut State) {
    match state.prompt.take().map(|prompt| prompt.purpose) {
        Some(Purpose::Narrow(before)) => narrow(state, before),
        Some(Purpose::GoTo(before)) => state.find = before,
        _ => {}
    }
}

fn accept(state: &mut State, now: Instant) -> Vec<Effect> {
    let Some(prompt) = &mut state.prompt else { return vec![] };
    let text = prompt.line.text().trim().to_owned();
    match prompt.purpose.clone() {
        Purpose::Narrow(_) | Purpose::GoTo(_) => {
            // A wrong line stays open with its caret, so that it can be mended.
            if prompt.error.is_some() {
                prompt.completions.clear();
                return vec![];
            }
            let went = matches!(prompt.purpose, Purpose::GoTo(_));
            let nobody = prompt.nobody;
            state.prompt = None;
            if nobody {
                narrow(state, Expression::parse(&text).ok());
            }
            if !text.is_empty() {
                state.history.retain(|other| *other != text);
                state.history.push(text);
                let excess = state.history.len().saturating_sub(REMEMBERED);
                state.history.drain(..excess);
                if went {
                    rows::say_match(state, now);
                }
            }
        }
        Purpose::Note(wall) => {
            state.prompt = None;
            let text = if text.is_empty() { "without a note".to_owned() } else { text };
            state.sign(wall, MarkKind::Bookmark, text);
            let said = format!("bookmark at {}; ( and ) go from sign to sign", state.zone.time(wall));
            state.say(Severity::Fine, said, Some(now + MESSAGE));
        }
        Purpose::Time => match time::wall_of(state, &text) {
            Ok(wall) => {
                state.prompt = None;
                time::go_to_wall(state, wall, now);
            }
            Err(problem) => prompt_problem(state, problem),
        },
        Purpose::View | Purpose::Columns => {
            if text.is_empty() {
                prompt.problem = Some("a name is missing".to_owned());
                return vec![];
            }
            let view = prompt.purpose == Purpose::View;
            state.prompt = None;
            return if view {
                views::save(state, &text, now)
            } else {
                views::save_columns(state, &text, now)
            };
        }
        Purpose::Setting(name) => return settings_sheet::typed(state, name, &text),
    }
    vec![]
}

/// Says what is wrong with the line; it stays open.
fn prompt_problem(state: &mut State, problem: String) {
    if let Some(prompt) = &mut state.prompt {
        prompt.problem = Some(problem);
    }
}
