//! Wraps lines to the width of the terminal.

/// How text is broken into lines: between words only, so that a name or a day stays whole.
pub(crate) fn whole_words(width: usize) -> textwrap::Options<'static> {
    textwrap::Options::new(width).word_splitter(textwrap::WordSplitter::NoHyphenation)
}
