//! Frames messages on a stream of bytes: with an end mark until both sides have said hello, in chunks from then on
//! (RFC 6242, section 4).

use std::io::{self, BufRead, Write};

/// How messages are separated.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Framing {
    /// By `]]>]]>` (base:1.0, and every hello).
    EndMark,
    /// In chunks, each with its size (base:1.1).
    Chunks,
}

/// The most that a message may have, in bytes.
const MOST: usize = 64 << 20;

const END: &[u8] = b"]]>]]>";

/// Writes a message.
///
/// # Errors
/// When the stream takes no more.
pub fn send(out: &mut impl Write, framing: Framing, message: &str) -> io::Result<()> {
    match framing {
        Framing::EndMark => {
            out.write_all(message.as_bytes())?;
            out.write_all(END)?;
        }
        Framing::Chunks => {
            // A size has at most ten digits and is never nothing.
            for chunk in message.as_bytes().chunks(1 << 20) {
                write!(out, "\n#{}\n", chunk.len())?;
                out.write_all(chunk)?;
            }
            out.write_all(b"\n##\n")?;
        }
    }
    out.flush()
}

/// Reads a message; `None` where the stream ends between two messages.
///
/// # Errors
/// When the stream ends within a message, a chunk has no valid size, the message is not UTF-8, or it is longer than
/// 64 MiB.
///
/// ```
/// use bastium_wire::netconf::{Framing, receive, send};
///
/// let mut stream = Vec::new();
/// send(&mut stream, Framing::Chunks, "<hello/>")?;
/// assert_eq!(receive(&mut stream.as_slice(), Framing::Chunks)?.as_deref(), Some("<hello/>"));
/// // A stream that ends too early is an error, not a shorter message.
/// assert!(receive(&mut &stream[..stream.len() - 2], Framing::Chunks).is_err());
/// # Ok::<(), std::io::Error>(())
/// ```
pub fn receive(from: &mut impl BufRead, framing: Framing) -> io::Result<Option<String>> {
    let bytes = match framing {
        Framing::EndMark => to_end_mark(from)?,
        Framing::Chunks => chunks(from)?,
    };
    let Some(bytes) = bytes else { return Ok(None) };
    String::from_utf8(bytes).map(Some).map_err(|_| wrong("a message is not UTF-8"))
}

fn wrong(what: &'static str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, what)
}

fn to_end_mark(from: &mut impl BufRead) -> io::Result<Option<Vec<u8>>> {
    let mut message = Vec::new();
    loop {
        let had = message.len();
        io::Read::take(&mut *from, (MOST + END.len() - had) as u64)
            .read_until(b'>', &mut message)?;
        if message.ends_with(END) {
            message.truncate(message.len() - END.len());
            return Ok(Some(message));
        }
        if message.len() == had {
            return match message.iter().all(u8::is_ascii_whitespace) {
                true => Ok(None),
                false => Err(io::ErrorKind::UnexpectedEof.into()),
            };
        }
        if message.len() >= MOST {
            return Err(wrong("a message is too long"));
        }
    }
}

fn chunks(from: &mut impl BufRead) -> io::Result<Option<Vec<u8>>> {
    let mut message = Vec::new();
    loop {
        let Some(size) = header(from, message.is_empty())? else { return Ok(None) };
        if size == 0 {
            return match message.is_empty() {
                true => Err(wrong("a message has no chunk")),
                false => Ok(Some(message)),
            };
        }
        if message.len() + size > MOST {
            return Err(wrong("a message is too long"));
        }
        let had = message.len();
        io::Read::read_to_end(&mut io::Read::take(&mut *from, size as u64), &mut message)?;
        if message.len() - had < size {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
    }
}

/// The size of the next chunk, 0 for the end of the message; `None` where the stream ends before the first.
fn header(from: &mut impl BufRead, first: bool) -> io::Result<Option<usize>> {
    let mut line = Vec::new();
    for expected in [&b"\n"[..], b"#"] {
        let mut one = [0];
        match io::Read::read(from, &mut one)? {
            0 if first && expected == b"\n" => return Ok(None),
            0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            _ if one[..] == *expected => {}
            _ => return Err(wrong("a chunk has no size")),
        }
    }
    io::Read::take(&mut *from, 12).read_until(b'\n', &mut line)?;
    let Some((b'\n', digits)) = line.split_last() else {
        return Err(io::ErrorKind::UnexpectedEof.into());
    };
    if digits == b"#" {
        return Ok(Some(0));
    }
    let plain = !digits.is_empty() && digits[0] != b'0' && digits.iter().all(u8::is_ascii_digit);
    let size = std::str::from_utf8(digits).ok().and_then(|digits| digits.parse().ok());
    size.filter(|_| plain).map(Some).ok_or_else(|| wrong("a chunk has no size"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Messages come out as they went in, one after the other, and a stream that is cut off within one is an error.
        #[test]
        fn messages_are_told_apart(
            messages in prop::collection::vec("[a-z<>/#\n\\]]{1,80}", 1..4),
            cut in any::<prop::sample::Index>(),
        ) {
            for framing in [Framing::EndMark, Framing::Chunks] {
                let fits = |one: &&String| framing == Framing::Chunks || !one.contains("]]>");
                let messages: Vec<&String> = messages.iter().filter(fits).collect();
                let mut bytes = Vec::new();
                for message in &messages {
                    send(&mut bytes, framing, message)?;
                }
                let mut from = &bytes[..];
                for message in &messages {
                    let got = receive(&mut from, framing)?;
                    prop_assert_eq!(got.as_ref(), Some(*message));
                }
                prop_assert_eq!(receive(&mut from, framing)?, None);
                if let Some(last) = messages.last() {
                    let mut alone = Vec::new();
                    send(&mut alone, framing, last)?;
                    let cut = 1 + cut.index(alone.len() - 1);
                    let part = receive(&mut &alone[..cut], framing);
                    let nothing = framing == Framing::EndMark && alone[..cut].iter().all(u8::is_ascii_whitespace);
                    prop_assert!(part.is_err() || nothing, "{part:?}");
                }
            }
        }

        #[test]
        fn nonsense_ends(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
            for framing in [Framing::EndMark, Framing::Chunks] {
                let mut from = &bytes[..];
                while let Ok(Some(_)) = receive(&mut from, framing) {}
            }
        }
    }

    #[test]
    fn sizes_are_those_that_the_standard_allows() {
        for bad in [
            "\n#0\nx\n##\n",
            "\n#01\nx\n##\n",
            "\n#x\n",
            "#1\nx",
            "\n#99999999999\nx",
            "\n##\n",
            "\n#-1\nx\n##\n",
            "\n#+1\nx\n##\n",
        ] {
            assert!(receive(&mut bad.as_bytes(), Framing::Chunks).is_err(), "{bad:?}");
        }
        assert_eq!(
            receive(&mut &b"\n#1\nx\n#2\nyz\n##\n"[..], Framing::Chunks).ok().flatten().as_deref(),
            Some("xyz")
        );
    }
}
