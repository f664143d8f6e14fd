//! Cuts an expression into tokens. Each knows its place.

use super::error::ExpressionError;
use std::ops::Range;

/// What a token is.
#[derive(Clone, Debug, PartialEq)]
pub enum Token {
    /// A word without quotes: a name, a number with its unit, text.
    Word(String),
    /// Text in quotes.
    Quoted(String),
    /// The name of an instance in curly brackets.
    Instance(String),
    /// A comparison.
    Compare(Compare),
    Open,
    Close,
    Comma,
}

/// How two values are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[allow(missing_docs, reason = "the signs below say what each is")]
pub enum Compare {
    Equal,
    Unequal,
    Less,
    AtMost,
    Greater,
    AtLeast,
    Matches,
    Differs,
}

impl Compare {
    /// All of them.
    pub const ALL: [Compare; 8] = [
        // Longer signs first: the lexer takes the first that fits.
        Compare::Unequal,
        Compare::AtMost,
        Compare::AtLeast,
        Compare::Differs,
        Compare::Equal,
        Compare::Less,
        Compare::Greater,
        Compare::Matches,
    ];

    /// As it is written.
    pub const fn sign(self) -> &'static str {
        match self {
            Compare::Equal => "=",
            Compare::Unequal => "!=",
            Compare::Less => "<",
            Compare::AtMost => "<=",
            Compare::Greater => ">",
            Compare::AtLeast => ">=",
            Compare::Matches => "~",
            Compare::Differs => "!~",
        }
    }
}

pub type Placed = (Token, Range<usize>);

/// Whether a letter ends a word.
pub fn ends_word(letter: char) -> bool {
    letter.is_whitespace()
        || matches!(letter, '(' | ')' | '{' | '}' | ',' | '=' | '<' | '>' | '!' | '~' | '"')
}

/// All tokens of a text.
pub fn tokens(text: &str) -> Result<Vec<Placed>, ExpressionError> {
    let mut tokens = vec![];
    let mut at = 0;
    while let Some(letter) = text[at..].chars().next() {
        if letter.is_whitespace() {
            at += letter.len_utf8();
            continue;
        }
        let (token, length) = token(&text[at..]).map_err(|(skip, length, message)| {
            ExpressionError::new(at + skip..at + skip + length, message).in_text(text)
        })?;
        tokens.push((token, at..at + length));
        at += length;
    }
    Ok(tokens)
}

type Failure = (usize, usize, String);

fn token(rest: &str) -> Result<(Token, usize), Failure> {
    let letter = rest.chars().next().unwrap_or(' ');
    match letter {
        '(' => return Ok((Token::Open, 1)),
        ')' => return Ok((Token::Close, 1)),
        ',' => return Ok((Token::Comma, 1)),
        '"' | '\'' => return quoted(rest, letter),
        '{' => {
            let Some(end) = rest.find('}') else {
                return Err((0, 1, "this curly bracket is not closed; expected '}'".to_owned()));
            };
            let name = rest[1..end].trim();
            let name = name.strip_prefix('"').and_then(|name| name.strip_suffix('"')).unwrap_or(name);
            return Ok((Token::Instance(name.to_owned()), end + 1));
        }
        '}' => return Err((0, 1, "this curly bracket was not opened".to_owned())),
        _ => {}
    }
    // Who is used to other languages writes two of them.
    if let Some(length) = rest.starts_with("==").then_some(2) {
        return Ok((Token::Compare(Compare::Equal), length));
    }
    if let Some(compare) = Compare::ALL.into_iter().find(|compare| rest.starts_with(compare.sign())) {
        return Ok((Token::Compare(compare), compare.sign().len()));
    }
    if letter == '!' {
        return Err((0, 1, "expected != or !~ here; the word for a negation is not".to_owned()));
    }
    let end = rest.find(ends_word).unwrap_or(rest.len());
    Ok((Token::Word(rest[..end].to_owned()), end))
}

fn quoted(rest: &str, quote: char) -> Result<(Token, usize), Failure> {
    let mut out = String::new();
    let mut letters = rest.char_indices().skip(1).peekable();
    while let Some((at, letter)) = letters.next() {
        match letter {
            _ if letter == quote => return Ok((Token::Quoted(out), at + 1)),
            // In double quotes a backslash takes its meaning from a quote or a backslash, and from nothing else.
            '\\' if quote == '"' && matches!(letters.peek(), Some((_, '"' | '\\'))) => {
                out.extend(letters.next().map(|(_, letter)| letter));
            }
            _ => out.push(letter),
        }
    }
    Err((0, 1, format!("this quote is not closed; expected another {quote}")))
}
