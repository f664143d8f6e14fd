//! Builds the tree of an expression, by recursive descent.

use super::error::ExpressionError;
use super::lexer::{Compare, Placed, Token, tokens};
use super::quantity;
use super::tree::{Comparison, Condition, JOINING, Node, Place, Value};
use std::ops::Range;

/// Longest expression, in bytes.
pub const LONGEST: usize = 2000;
/// Deepest nesting of brackets and negations.
pub const DEEPEST: usize = 50;

type Result<T> = std::result::Result<T, ExpressionError>;

/// Reads a text.
pub fn parse(text: &str) -> Result<Node> {
    let fail = |at, message: String| Err(ExpressionError::new(at, message).in_text(text));
    if text.len() > LONGEST {
        return fail(0..0, format!("the expression is too long; {LONGEST} bytes are the most"));
    }
    let tokens = tokens(text)?;
    if tokens.is_empty() {
        return fail(0..0, "there is no expression".to_owned());
    }
    let mut parser = Parser { text, tokens, at: 0, depth: 0 };
    let node = parser.either().map_err(|error| error.in_text(text))?;
    match parser.next() {
        None => Ok(node),
        Some((Token::Close, at)) => fail(at, "this bracket was not opened".to_owned()),
        Some((Token::Comma, at)) => {
            fail(at, "a list stands in brackets behind in: user in (a, b)".to_owned())
        }
        Some((Token::Compare(_), at)) => fail(
            at,
            "the name of a metric is missing before this; a text with this sign needs quotes".to_owned(),
        ),
        Some((_, at)) => fail(at, "expected and, or, or the end".to_owned()),
    }
}

struct Parser<'a> {
    text: &'a str,
    tokens: Vec<Placed>,
    at: usize,
    depth: usize,
}

impl Parser<'_> {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at).map(|(token, _)| token)
    }

    fn next(&mut self) -> Option<Placed> {
        let token = self.tokens.get(self.at).cloned();
        self.at += 1;
        token
    }

    /// Takes a word that joins, if it is the next.
    fn takes(&mut self, word: &str) -> bool {
        let is_next = matches!(self.peek(), Some(Token::Word(next)) if next == word);
        self.at += usize::from(is_next);
        is_next
    }

    /// The place of the next token, or the end.
    fn here(&self) -> Range<usize> {
        self.tokens.get(self.at).map_or(self.text.len()..self.text.len(), |(_, at)| at.clone())
    }

    /// Some are joined by a word; one alone stays what it is.
    fn joined(
        &mut self,
        word: &str,
        part: fn(&mut Self) -> Result<Node>,
        join: fn(Vec<Node>) -> Node,
    ) -> Result<Node> {
        let first = part(self)?;
        if !matches!(self.peek(), Some(Token::Word(next)) if next == word) {
            return Ok(first);
        }
        let mut nodes = vec![first];
        while self.takes(word) {
            nodes.push(part(self)?);
        }
        Ok(join(nodes))
    }

    fn either(&mut self) -> Result<Node> {
        self.joined("or", Parser::all, Node::Or)
    }

    fn all(&mut self) -> Result<Node> {
        self.joined("and", Parser::negated, Node::And)
    }

    fn deeper<T>(&mut self, inside: impl FnOnce(&mut Self) -> Result<T>) -> Result<T> {
        if self.depth == DEEPEST {
            let message = format!("nested too deeply; {DEEPEST} levels are the most");
            return Err(ExpressionError::new(self.here(), message));
        }
        self.depth += 1;
        let result = inside(self);
        self.depth -= 1;
        result
    }

    fn negated(&mut self) -> Result<Node> {
        if self.takes("not") {
            return self.deeper(|parser| Ok(Node::Not(Box::new(parser.negated()?))));
        }
        self.primary()
    }

    fn primary(&mut self) -> Result<Node> {
        let here = self.here();
        match self.next() {
            None => {
                Err(ExpressionError::new(here, "something is missing here: a word, a comparison, a bracket"))
            }
            Some((Token::Open, at)) => self.deeper(|parser| {
                let node = parser.either()?;
                match parser.next() {
                    Some((Token::Close, _)) => Ok(node),
                    None => Err(ExpressionError::new(at, "this bracket is not closed; expected ')'")),
                    Some((_, at)) => Err(ExpressionError::new(at, "expected and, or, or ')'")),
                }
            }),
            Some((Token::Quoted(text), at)) => match self.peek() {
                Some(Token::Compare(_)) => {
                    Err(ExpressionError::new(at, "the name of a metric stands here without quotes"))
                }
                _ => Ok(Node::Text(text)),
            },
            Some((Token::Word(word), at)) => self.word(word, at),
            Some((Token::Close, at)) => {
                Err(ExpressionError::new(at, "something is missing before this bracket"))
            }
            Some((Token::Comma, at)) => {
                Err(ExpressionError::new(at, "something is missing before this comma"))
            }
            Some((Token::Instance(_), at)) => Err(ExpressionError::new(
                at,
                "the name of a metric is missing before this, as in disk.busy{sda}",
            )),
            Some((Token::Compare(_), at)) => {
                let message =
                    "the name of a metric is missing before this; a text with this sign needs quotes";
                Err(ExpressionError::new(at, message))
            }
        }
    }

    /// A comparison, a condition, or words that are looked for.
    fn word(&mut self, word: String, at: Range<usize>) -> Result<Node> {
        if JOINING.contains(&word.as_str()) {
            let message =
                format!("something is missing before '{word}'; to look for the word write \"{word}\"");
            return Err(ExpressionError::new(at, message));
        }
        if self.is_comparison() {
            return self.comparison(word, at);
        }
        let start = at.start;
        let mut end = at.end;
        let mut words = 1;
        while let Some(Token::Word(next)) = self.peek() {
            if ["and", "or"].contains(&next.as_str()) {
                break;
            }
            let place = self.here();
            self.at += 1;
            if self.is_comparison() {
                return Err(ExpressionError::new(
                    place,
                    "expected and, or, or the end before this comparison",
                ));
            }
            end = place.end;
            words += 1;
        }
        if words == 1
            && let Some(condition) = Condition::of(&word)
        {
            return Ok(Node::Condition(condition));
        }
        match self.peek() {
            Some(Token::Quoted(_) | Token::Open) => {
                Err(ExpressionError::new(self.here(), "expected and, or, or the end"))
            }
            _ => Ok(Node::Text(self.text[start..end].to_owned())),
        }
    }

    /// Whether the tokens behind a word compare it with something.
    fn is_comparison(&self) -> bool {
        let is = |at: usize, word: &str| matches!(self.tokens.get(at), Some((Token::Word(next), _)) if next == word);
        let opens = |at: usize| matches!(self.tokens.get(at), Some((Token::Open, _)));
        match self.peek() {
            Some(Token::Compare(_) | Token::Instance(_)) => true,
            _ => {
                is(self.at, "in") && opens(self.at + 1)
                    || is(self.at, "not") && is(self.at + 1, "in") && opens(self.at + 2)
            }
        }
    }

    fn comparison(&mut self, metric: String, place: Range<usize>) -> Result<Node> {
        let mut instance = None;
        if let Some(Token::Instance(name)) = self.peek() {
            instance = Some(name.clone());
            self.at += 1;
        }
        let how_place = self.here();
        let negated = self.takes("not");
        let list = self.takes("in");
        let (how, values) = if list {
            (if negated { Compare::Unequal } else { Compare::Equal }, self.list()?)
        } else {
            let Some((Token::Compare(how), _)) = self.next() else {
                return Err(ExpressionError::new(how_place, "expected a comparison such as > or ="));
            };
            (how, vec![self.value()?])
        };
        let (place, how_place) = (Place(place), Place(how_place));
        Ok(Node::Compare(Comparison { metric, instance, place, how, how_place, values, list }))
    }

    fn list(&mut self) -> Result<Vec<Value>> {
        let open = self.here();
        self.at += 1;
        let mut values = vec![self.value()?];
        loop {
            match self.next() {
                Some((Token::Comma, _)) => values.push(self.value()?),
                Some((Token::Close, _)) => return Ok(values),
                Some((_, at)) => return Err(ExpressionError::new(at, "expected ',' or ')'")),
                None => return Err(ExpressionError::new(open, "this list is not closed; expected ')'")),
            }
        }
    }

    /// A quoted text, a word, or a number with its unit, which may stand apart.
    fn value(&mut self) -> Result<Value> {
        let here = self.here();
        match self.next() {
            Some((Token::Quoted(text), at)) => Ok(Value { text, quoted: true, place: Place(at) }),
            Some((Token::Word(word), at)) if !JOINING.contains(&word.as_str()) => {
                let (mut text, mut end) = (word, at.end);
                // A unit may stand apart, and so may the ago behind it.
                while quantity::begins_number(&text)
                    && let Some(Token::Word(next)) = self.peek()
                    && !JOINING.contains(&next.as_str())
                {
                    text = format!("{text} {next}");
                    end = self.here().end;
                    self.at += 1;
                }
                Ok(Value { text, quoted: false, place: Place(at.start..end) })
            }
            _ => Err(ExpressionError::new(here, "a value is missing here")),
        }
    }
}
