//! Parses what a script printed: parts with a name and a length, each begun by a mark that nobody could know before.

use std::fmt;

/// The parts of an answer, in their order. All of it is foreign text.
#[derive(Clone, Debug, Default)]
pub struct Answer {
    parts: Vec<(String, Vec<u8>)>,
}

/// Why bytes are no whole answer.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Garbled {
    /// The script said nothing at all: only what was printed by others, the last line of which is here.
    Nothing(String),
    /// It ended before its last part.
    CutOff,
}

impl Answer {
    /// Takes apart what came. What stands before the first part, such as the greeting of a shell, is left out.
    ///
    /// # Errors
    /// If the last part is not there, whole.
    pub(crate) fn read(bytes: &[u8], mark: &str) -> Result<Self, Garbled> {
        let begin = format!("{mark} ");
        let Some(mut at) = find(bytes, begin.as_bytes(), 0) else {
            return Err(Garbled::Nothing(last_line(bytes)));
        };
        let mut parts = Vec::new();
        loop {
            let line = bytes[at..].split(|byte| *byte == b'\n').next().ok_or(Garbled::CutOff)?;
            let header = std::str::from_utf8(line).map_err(|_| Garbled::CutOff)?;
            let mut words = header.strip_prefix(&begin).ok_or(Garbled::CutOff)?.split(' ');
            let (Some(name), Some(length), None) = (words.next(), words.next(), words.next())
            else {
                return Err(Garbled::CutOff);
            };
            let length: usize = length.parse().map_err(|_| Garbled::CutOff)?;
            let from = at + line.len() + 1;
            let to = from.checked_add(length).filter(|to| *to <= bytes.len());
            let body = bytes.get(from..to.ok_or(Garbled::CutOff)?).ok_or(Garbled::CutOff)?;
            parts.push((name.to_owned(), body.to_vec()));
            if name == "end" {
                return Ok(Self { parts });
            }
            at = from + length + 1;
            if at > bytes.len() {
                return Err(Garbled::CutOff);
            }
        }
    }

    /// A part, as text.
    pub fn text(&self, name: &str) -> Option<String> {
        self.texts(name).next()
    }

    /// All parts of a name.
    pub fn texts<'a>(&'a self, name: &'a str) -> impl Iterator<Item = String> + 'a {
        let named = self.parts.iter().filter(move |(own, _)| own == name);
        named.map(|(_, bytes)| String::from_utf8_lossy(bytes).into_owned())
    }

    /// The parts whose name begins so: what follows in the name, and the text.
    pub(crate) fn beginning<'a>(
        &'a self,
        start: &'a str,
    ) -> impl Iterator<Item = (String, String)> + 'a {
        self.parts.iter().filter_map(move |(name, bytes)| {
            let rest = name.strip_prefix(start)?.to_owned();
            Some((rest, String::from_utf8_lossy(bytes).into_owned()))
        })
    }

    /// How it ended: `done`, or the word for what stopped it.
    pub fn end(&self) -> String {
        self.text("end").unwrap_or_default()
    }
}

fn find(bytes: &[u8], word: &[u8], from: usize) -> Option<usize> {
    let starts =
        |at: &usize| bytes[*at..].starts_with(word) && (*at == 0 || bytes[*at - 1] == b'\n');
    (from..bytes.len()).find(starts)
}

fn last_line(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(bytes);
    text.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default().to_owned()
}

impl fmt::Display for Garbled {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Nothing(_) => "the gateway's shell did not run what it was given",
            Self::CutOff => "the gateway's answer was cut off",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn written(parts: &[(&str, &[u8])], mark: &str) -> Vec<u8> {
        let mut bytes = Vec::new();
        for (name, body) in parts {
            bytes.extend(format!("{mark} {name} {}\n", body.len()).into_bytes());
            bytes.extend_from_slice(body);
            bytes.push(b'\n');
        }
        bytes
    }

    proptest! {
        /// Parts may hold anything, greetings stand before them, and whatever is cut off is no answer.
        #[test]
        fn parts_come_back_as_they_were(
            greeting in "[ -~\n]{0,40}",
            bodies in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..60), 0..4),
            cut in any::<prop::sample::Index>(),
        ) {
            let mut parts: Vec<(&str, &[u8])> = bodies.iter().map(|body| ("part", body.as_slice())).collect();
            parts.push(("end", b"done"));
            let mut bytes = format!("{greeting}\n").into_bytes();
            bytes.extend(written(&parts, "m4rk"));
            let answer = Answer::read(&bytes, "m4rk").expect("a whole answer");
            prop_assert_eq!(answer.end(), "done");
            let got: Vec<_> = answer.parts.iter().filter(|(name, _)| name == "part").map(|(_, body)| body.clone()).collect();
            prop_assert_eq!(got, bodies);
            // The line break after the last part may be missing.
            let cut = cut.index(bytes.len() - 1);
            prop_assert!(Answer::read(&bytes[..cut], "m4rk").is_err());
        }

        /// Whatever a gateway prints, reading it ends.
        #[test]
        fn nonsense_is_no_answer(bytes in prop::collection::vec(any::<u8>(), 0..300), length in any::<u64>()) {
            let _ = Answer::read(&bytes, "m");
            let huge = format!("m part {length}\nx");
            prop_assert!(Answer::read(huge.as_bytes(), "m").is_err());
        }
    }
}
