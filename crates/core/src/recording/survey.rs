//! Finds the readings of a recording without decoding them: where their frames are, what the indexes say of them, what
//! is damaged. A recording that grows is surveyed on from where it ended.

use super::format::Kind;
use super::frames::Frames;
use super::index::Index;
use super::marks::{Mark, MarkKind};
use super::reader::{Damage, Decoder, Entry, Opened, ReadError, Work};
use super::scanner::{Found, Jump, Scanner};
use crate::reading::HostFacts;
use std::io::{self, Read};
use std::sync::Arc;

/// What is found next.
pub enum Surveyed {
    /// A reading. `lost` says that readings before it are missing.
    Reading {
        /// Its place.
        entry: Entry,
        /// Readings just before it could not be read or were never taken.
        lost: bool,
    },
    /// What the lanes show of the readings before.
    Index(Index),
    /// Something at an instant.
    Mark(Mark),
    /// A part that cannot be read.
    Damage(Damage),
    /// Nothing yet, after a good many bytes; to be asked again.
    Searching,
}

/// Bytes of frames, read from one place on.
struct FromHere {
    frames: Arc<dyn Frames>,
    at: u64,
}

impl Read for FromHere {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let there = self.frames.some_at(self.at, buffer)?;
        self.at += there as u64;
        Ok(there)
    }
}

impl FromHere {
    const JUMP: Jump<FromHere> = Jump {
        data_from: |here, offset| here.frames.data_from(offset),
        go_to: |here, offset| here.at = offset,
    };
}

/// Goes through a recording.
pub struct Survey {
    frames: Arc<dyn Frames>,
    decoder: Decoder,
    host: Arc<HostFacts>,
    every: Option<f64>,
    thinned: bool,
    scanner: Option<Scanner<FromHere>>,
    /// Behind the last frame that needs nothing after it.
    settled: u64,
    pending: Option<(u64, bool)>,
    broken: bool,
    lost: bool,
    /// Readings that were found.
    readings: usize,
    /// Behind `settled`, up to here nothing was found that is a frame or could become one.
    barren: u64,
}

impl Survey {
    /// Reads the head.
    pub fn open(frames: Arc<dyn Frames>) -> Result<Survey, ReadError> {
        let Opened { scanner, decoder, host, every, thinned } =
            Opened::read(FromHere { frames: frames.clone(), at: 0 })?;
        let settled = scanner.offset();
        let (pending, broken, lost) = (None, false, false);
        let scanner = Some(scanner.over_file(FromHere::JUMP, 0));
        Ok(Survey {
            frames,
            decoder,
            host,
            every,
            thinned,
            scanner,
            settled,
            pending,
            broken,
            lost,
            readings: 0,
            barren: 0,
        })
    }

    /// Whose recording it is.
    pub fn host(&self) -> &Arc<HostFacts> {
        &self.host
    }

    /// Nominal time between readings in seconds, where the recording states one.
    pub fn every(&self) -> Option<f64> {
        self.every
    }

    /// Whether readings were thinned out, and others may tell more of the same time.
    pub fn is_thinned(&self) -> bool {
        self.thinned
    }

    /// A decoder that has read nothing, and may take as much as suits the size of the recording.
    pub fn decoder(&self) -> Decoder {
        let mut decoder = self.decoder.anew();
        decoder.allow(self.settled);
        decoder
    }

    /// What decoding all of it once may take.
    pub fn allowed(&self) -> u64 {
        self.decoder.allowed_for(self.settled)
    }

    /// What finding the readings took so far, and may take.
    pub fn work(&mut self) -> &mut Work {
        self.decoder.allow(self.settled);
        &mut self.decoder.work
    }

    /// How far it has come.
    pub fn place(&self) -> u64 {
        self.scanner.as_ref().map_or(self.settled, Scanner::offset)
    }

    /// The frames.
    pub fn frames(&self) -> &Arc<dyn Frames> {
        &self.frames
    }

    /// What is found next; `None` at the end as it is now. Asked again later it goes on there.
    pub fn next(&mut self) -> Result<Option<Surveyed>, ReadError> {
        let scanner = self.scanner.get_or_insert_with(|| {
            self.pending = None;
            let input = FromHere { frames: self.frames.clone(), at: self.settled };
            Scanner::new(input, self.settled).over_file(FromHere::JUMP, self.barren)
        });
        loop {
            match scanner.next()? {
                Found::Searching => return Ok(Some(Surveyed::Searching)),
                Found::End if self.pending.is_none() => {
                    self.scanner = None;
                    return Ok(None);
                }
                found @ (Found::End | Found::Cut { .. }) => {
                    // What is not whole yet may become so; until then it is the end.
                    let end = match found {
                        Found::Cut { offset, bytes } => offset + bytes,
                        _ => scanner.offset(),
                    };
                    let offset = self.settled;
                    self.barren = scanner.searched_to();
                    self.scanner = None;
                    return Ok(Some(Surveyed::Damage(Damage {
                        cut: true,
                        ..Damage::of(offset, end - offset)
                    })));
                }
                Found::Damage { offset, bytes } => {
                    (self.broken, self.lost, self.pending) = (true, true, None);
                    self.settled = offset + bytes;
                    return Ok(Some(Surveyed::Damage(Damage::of(offset, bytes))));
                }
                Found::Frame { offset, kind } => {
                    let end = scanner.offset();
                    let kind = Kind::from_number(kind);
                    let found = match (kind, kind.and_then(Kind::part)) {
                        (_, Some(part)) if part.system => {
                            if part.key {
                                self.broken = false;
                            }
                            self.pending = (!self.broken).then_some((offset, part.key));
                            continue;
                        }
                        (_, Some(part)) => match self.pending.take() {
                            Some((system, key)) if key == part.key => {
                                self.readings += 1;
                                Some(Surveyed::Reading {
                                    entry: Entry { system, process: offset, key },
                                    lost: std::mem::take(&mut self.lost),
                                })
                            }
                            None if self.broken => None,
                            _ => {
                                (self.broken, self.lost) = (true, true);
                                Some(Surveyed::Damage(Damage::of(offset, end - offset)))
                            }
                        },
                        (Some(Kind::Mark), _) => {
                            let mark = Mark::parse(scanner.payload());
                            self.lost |= mark.as_ref().is_some_and(|mark| mark.kind == MarkKind::Lost);
                            mark.map(Surveyed::Mark)
                        }
                        (Some(Kind::Index), _) => {
                            self.decoder.allow(end);
                            let index = self.decoder.index(scanner.payload(), self.readings);
                            index.ok().map(Surveyed::Index)
                        }
                        _ => None,
                    };
                    if self.pending.is_none() {
                        self.settled = end;
                    }
                    if found.is_some() {
                        return Ok(found);
                    }
                }
            }
        }
    }
}
