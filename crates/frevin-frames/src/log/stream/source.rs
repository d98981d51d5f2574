//! The bytes of a log in pieces that end where rows end.

use std::io::{self, Chain, Cursor, Read};

use encoding_rs::{Encoding, UTF_16BE, UTF_16LE};
use encoding_rs_io::{DecodeReaderBytes, DecodeReaderBytesBuilder};

use crate::log::LogError;

/// How much of a log is looked at before it is known how it is written.
pub(in crate::log) const HEAD_BYTES: usize = 1 << 20;
/// How much is read at once: enough that handing it to a thread costs nothing beside it, and little
/// enough to stay in that core's own memory.
const PIECE_BYTES: usize = 1 << 18;
/// A row may not be longer than this; what has longer ones is no log.
const LONGEST_ROW_BYTES: usize = 16 << 20;

/// A source after its encoding has become UTF-8, or bytes of which ASCII means the same.
pub(in crate::log) type Decoded<R> = DecodeReaderBytes<Chain<Cursor<Vec<u8>>, R>, Vec<u8>>;

/// Looks at how a source begins: UTF-16, with or without a mark, is decoded on the way.
pub(in crate::log) fn decoded<R: Read>(mut source: R) -> io::Result<Decoded<R>> {
    let mut beginning = Vec::new();
    source.by_ref().take(4096).read_to_end(&mut beginning)?;
    let encoding = unmarked_utf16(&beginning);
    let whole = Cursor::new(beginning).chain(source);
    // Without an encoding and without a mark bytes pass as they are; a UTF-8 mark is taken off.
    let mut builder = DecodeReaderBytesBuilder::new();
    builder.encoding(encoding).bom_override(true).strip_bom(true).utf8_passthru(true);
    Ok(builder.build(whole))
}

/// UTF-16 that does not say so: numbers and headings are ASCII mostly, so that every other byte is 0.
fn unmarked_utf16(beginning: &[u8]) -> Option<&'static Encoding> {
    if matches!(beginning, [0xFF, 0xFE, ..] | [0xFE, 0xFF, ..]) {
        return None;
    }
    let pairs = beginning.as_chunks::<2>().0;
    let zeros = |at: usize| pairs.iter().filter(|pair| pair[at] == 0).count();
    let (first, second) = (zeros(0), zeros(1));
    match (first, second) {
        (0, second) if second * 10 > pairs.len() * 9 => Some(UTF_16LE),
        (first, 0) if first * 10 > pairs.len() * 9 => Some(UTF_16BE),
        _ => None,
    }
}

/// A source in which some lines end in a carriage return alone, some in one with a line feed, some in a
/// line feed: each comes out as a line feed.
pub(in crate::log) struct OneLineEnd<R> {
    source: R,
    chunk: Vec<u8>,
    given: usize,
    is_after_return: bool,
}

impl<R: Read> OneLineEnd<R> {
    pub(in crate::log) fn of(source: R) -> Self {
        Self { source, chunk: Vec::new(), given: 0, is_after_return: false }
    }

    fn next_chunk(&mut self) -> io::Result<()> {
        const CHUNK_BYTES: u64 = 1 << 16;
        let mut raw = Vec::new();
        self.source.by_ref().take(CHUNK_BYTES).read_to_end(&mut raw)?;
        self.chunk.clear();
        self.given = 0;
        for byte in &raw {
            let is_second_half = *byte == b'\n' && self.is_after_return;
            self.is_after_return = *byte == b'\r';
            if !is_second_half {
                self.chunk.push(if self.is_after_return { b'\n' } else { *byte });
            }
        }
        // A chunk of nothing but the second half of a line end is not the end of the source.
        if self.chunk.is_empty() && !raw.is_empty() { self.next_chunk() } else { Ok(()) }
    }
}

impl<R: Read> Read for OneLineEnd<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.given == self.chunk.len() {
            self.next_chunk()?;
        }
        let read = (&self.chunk[self.given..]).read(buffer)?;
        self.given += read;
        Ok(read)
    }
}

/// Whether a text has a line that ends in a carriage return alone.
pub(in crate::log) fn has_lone_returns(text: &[u8], is_whole: bool) -> bool {
    let is_lone = |at: usize| match text.get(at + 1) {
        Some(next) => *next != b'\n',
        None => is_whole,
    };
    memchr::memchr_iter(b'\r', text).any(is_lone)
}

/// Fills `buffer` up to `wanted` bytes; fewer only where the source ends.
pub(in crate::log) fn fill(
    source: &mut impl Read,
    buffer: &mut Vec<u8>,
    wanted: usize,
) -> io::Result<()> {
    let mut filled = buffer.len();
    buffer.resize(wanted.max(filled), 0);
    let result = fill_from(source, buffer, &mut filled);
    buffer.truncate(filled);
    result
}

fn fill_from(source: &mut impl Read, buffer: &mut [u8], filled: &mut usize) -> io::Result<()> {
    while *filled < buffer.len() {
        match source.read(&mut buffer[*filled..]) {
            Ok(0) => return Ok(()),
            Ok(read) => *filled += read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// A piece of a log.
#[derive(Default)]
pub(in crate::log) struct Piece {
    /// Room that was cleared once and is used again and again.
    room: Vec<u8>,
    used: usize,
    has_quotation_marks: bool,
}

impl Piece {
    pub(in crate::log) fn bytes(&self) -> &[u8] {
        &self.room[..self.used]
    }

    /// Whether a quotation mark is anywhere in it.
    pub(in crate::log) fn has_quotation_marks(&self) -> bool {
        self.has_quotation_marks
    }
}

/// A log cut into pieces, each of which ends with a row.
pub(in crate::log) struct Pieces<R> {
    source: R,
    /// What was read and belongs to the next piece.
    kept: Vec<u8>,
    is_at_end: bool,
    cut: usize,
}

impl<R: Read> Pieces<R> {
    /// What is left of a log of which `kept` was read.
    pub(in crate::log) fn new(source: R, kept: Vec<u8>) -> Self {
        Self { source, kept, is_at_end: false, cut: 0 }
    }

    /// Whether the piece before was the last one.
    pub(in crate::log) fn is_at_end(&self) -> bool {
        self.is_at_end && self.kept.is_empty()
    }

    /// Gives no more pieces.
    pub(in crate::log) fn end(&mut self) {
        self.is_at_end = true;
        self.kept.clear();
    }

    /// The number of the next piece, which replaces what `piece` holds; nothing after the last.
    pub(in crate::log) fn next(&mut self, piece: &mut Piece) -> Result<Option<u64>, LogError> {
        let mut wanted = PIECE_BYTES.max(self.kept.len());
        piece.used = self.kept.len();
        piece.room.resize(wanted.max(piece.room.len()), 0);
        piece.room[..piece.used].copy_from_slice(&self.kept);
        self.kept.clear();
        while !self.is_at_end {
            let failed = |error: io::Error| LogError::Unreadable { reason: error.to_string() };
            fill_from(&mut self.source, &mut piece.room[..wanted], &mut piece.used)
                .map_err(failed)?;
            self.is_at_end = piece.used < wanted;
            if self.is_at_end {
                piece.has_quotation_marks = memchr::memchr(b'"', piece.bytes()).is_some();
                break;
            }
            if let Some((end, has_quotation_marks)) = end_of_rows(piece.bytes()) {
                piece.has_quotation_marks = has_quotation_marks;
                self.kept.extend_from_slice(&piece.bytes()[end..]);
                piece.used = end;
                break;
            }
            if wanted >= LONGEST_ROW_BYTES {
                return Err(LogError::RowTooLong { bytes: LONGEST_ROW_BYTES });
            }
            wanted *= 2;
            piece.room.resize(wanted.max(piece.room.len()), 0);
        }
        if piece.used == 0 {
            return Ok(None);
        }
        self.cut += 1;
        Ok(Some(self.cut as u64 - 1))
    }
}

/// Where the last whole row ends, and whether a quotation mark is before that. A line break between quotation marks is part of a cell; where the
/// marks do not come in pairs they are not taken for such.
fn end_of_rows(piece: &[u8]) -> Option<(usize, bool)> {
    let last = memchr::memrchr(b'\n', piece)? + 1;
    let Some(first_mark) = memchr::memchr(b'"', &piece[..last]) else {
        return Some((last, false));
    };
    let marks = memchr::memchr_iter(b'"', &piece[first_mark..last]).count();
    if marks.is_multiple_of(2) {
        return Some((last, true));
    }
    let opening = memchr::memrchr(b'"', &piece[..last])?;
    Some((memchr::memrchr(b'\n', &piece[..opening]).map_or(last, |end| end + 1), true))
}
