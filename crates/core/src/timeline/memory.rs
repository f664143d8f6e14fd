//! Readings of the live machine in memory: the newest as they came, of those before them every [`THIN`]th, and once
//! those pass a limit too, the oldest of them go. Rates of thinned samples are right: they cover a longer time.

use super::progress::Progress;
use crate::reading::Reading;
use crate::recording::format::FrameHeader;
use crate::recording::{Decoder, Encoder, Entry, Frames, ReadError};
use std::collections::VecDeque;
use std::io;
use std::sync::Arc;

/// Bytes and readings that a live timeline keeps as they came. At 300 processes of which 30 are active two hours at
/// 1 s; with all of them active in everything more than half an hour (`cargo bench --bench history`).
pub const FINE: Limit = Limit { bytes: 12 << 20, readings: 7_200 };
/// Bytes and readings that it keeps of the time before.
pub const COARSE: Limit = Limit { bytes: 6 << 20, readings: 14_400 };
/// A key frame stands at least so often: thinning takes a block at a time, and stepping back begins at one.
const KEY_EVERY: u32 = 64;
/// Of the time before, every so manieth reading is kept.
pub const THIN: usize = 8;

/// How much is kept.
#[derive(Clone, Copy)]
pub struct Limit {
    bytes: u64,
    readings: usize,
}

/// Frames in memory, in blocks that begin with a key frame.
#[derive(Default)]
struct MemoryFrames {
    blocks: VecDeque<(u64, Vec<u8>)>,
    end: u64,
    /// Of a copy: whether it is wanted still.
    progress: Option<Arc<Progress>>,
}

impl Frames for MemoryFrames {
    fn bytes_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<()> {
        self.progress.as_ref().map_or(Ok(()), |progress| progress.count())?;
        let at = self.blocks.partition_point(|(start, _)| *start <= offset);
        let block = at.checked_sub(1).and_then(|at| self.blocks.get(at));
        let bytes = block.and_then(|(start, bytes)| {
            let from = (offset - start) as usize;
            bytes.get(from..from + buffer.len())
        });
        buffer.copy_from_slice(bytes.ok_or(io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }

    fn some_at(&self, offset: u64, buffer: &mut [u8]) -> io::Result<usize> {
        self.progress.as_ref().map_or(Ok(()), |progress| progress.count())?;
        let at = self.blocks.partition_point(|(start, _)| *start <= offset);
        let Some((start, block)) = at.checked_sub(1).and_then(|at| self.blocks.get(at)) else { return Ok(0) };
        let rest = block.get((offset - start) as usize..).unwrap_or_default();
        let there = rest.len().min(buffer.len());
        buffer[..there].copy_from_slice(&rest[..there]);
        Ok(there)
    }
}

/// Encoded readings in memory.
#[derive(Default)]
pub struct Tier {
    frames: MemoryFrames,
    /// Made when the first reading comes: the tier of old readings may never get one.
    encoder: Option<Encoder>,
    pub entries: VecDeque<Entry>,
}

impl Tier {
    /// The same readings for another thread; nothing can be put behind them.
    fn copy(&self, progress: &Arc<Progress>) -> Tier {
        let frames = MemoryFrames {
            blocks: self.frames.blocks.clone(),
            end: self.frames.end,
            progress: Some(progress.clone()),
        };
        Tier { frames, encoder: None, entries: self.entries.clone() }
    }

    pub fn put(&mut self, reading: &Arc<Reading>) {
        let mut bytes = vec![];
        let encoder = self.encoder.get_or_insert_with(|| Encoder::new(KEY_EVERY));
        let key = encoder.put(reading, &mut bytes).unwrap_or_else(|_| {
            // The compressor got no memory: no frame can be read here, and the next reading begins anew.
            bytes = vec![0];
            true
        });
        let system = self.frames.end;
        // The process frame stands behind the system frame, whose length its header tells.
        let process = system + FrameHeader::parse(&bytes).map_or(0, |header| header.whole() as u64);
        self.frames.end += bytes.len() as u64;
        match self.frames.blocks.back_mut() {
            Some((_, block)) if !key => block.extend_from_slice(&bytes),
            _ => self.frames.blocks.push_back((system, bytes)),
        }
        self.entries.push_back(Entry { system, process, key });
    }

    pub fn bytes(&self) -> u64 {
        self.frames.blocks.front().map_or(0, |(start, _)| self.frames.end - start)
    }

    pub fn is_over(&self, limit: Limit) -> bool {
        self.frames.blocks.len() > 1 && (self.bytes() > limit.bytes || self.entries.len() > limit.readings)
    }

    /// Takes away the oldest block; gives how many readings it held.
    pub fn drop_oldest(&mut self) -> usize {
        self.frames.blocks.pop_front();
        let start = self.frames.blocks.front().map_or(self.frames.end, |(start, _)| *start);
        let gone = self.entries.iter().take_while(|entry| entry.system < start).count();
        self.entries.drain(..gone);
        gone
    }

    /// The readings of the oldest block.
    pub fn oldest(&self, decoder: &mut Decoder) -> Result<Vec<Arc<Reading>>, ReadError> {
        let end = self.frames.blocks.get(1).map_or(self.frames.end, |(start, _)| *start);
        let block = self.entries.iter().take_while(|entry| entry.system < end);
        block
            .map(|entry| {
                decoder.load(&self.frames, *entry)?;
                Ok(Arc::new(decoder.reading().clone()))
            })
            .collect()
    }
}

/// Readings in memory: the newest as they came, and what is left of those before them.
#[derive(Default)]
pub struct Memory {
    pub coarse: Tier,
    pub fine: Tier,
    /// The newest thinned reading.
    pub last_coarse: Option<Arc<Reading>>,
}

impl Memory {
    /// The same readings for another thread.
    pub fn copy(&self, progress: &Arc<Progress>) -> Memory {
        Memory {
            coarse: self.coarse.copy(progress),
            fine: self.fine.copy(progress),
            last_coarse: self.last_coarse.clone(),
        }
    }

    /// Place and frames of a reading, counted from the oldest.
    pub fn find(&self, at: usize) -> Option<(Entry, &dyn Frames)> {
        let coarse = self.coarse.entries.len();
        let (tier, at) = if at < coarse { (&self.coarse, at) } else { (&self.fine, at - coarse) };
        Some((*tier.entries.get(at)?, &tier.frames))
    }
}
