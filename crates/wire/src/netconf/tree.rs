//! XML elements with namespaces, of which messages and data consist.

use quick_xml::escape::escape;
use std::fmt::Write;

/// Where declarations of namespaces belong.
pub(super) const XMLNS: &str = "http://www.w3.org/2000/xmlns/";

/// The namespace of messages and operations (RFC 6241).
pub const BASE: &str = "urn:ietf:params:xml:ns:netconf:base:1.0";

/// An XML element. Text between child elements is ignored; an element without children has a text.
///
/// ```
/// use bastium_wire::netconf::Element;
///
/// let element = Element::base("get").with(Element::base("filter").saying("a < b"));
/// let text = element.write();
/// assert!(text.contains("a &lt; b"));
/// assert_eq!(Element::read(&text).expect("what was written can be read"), element);
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct Element {
    /// The namespace; empty for none.
    pub namespace: String,
    /// The name within it.
    pub name: String,
    /// Attributes: namespace, name and value.
    pub attributes: Vec<(String, String, String)>,
    /// What is in it.
    pub children: Vec<Element>,
    /// Its text.
    pub text: String,
}

impl Element {
    /// An element with nothing in it.
    pub fn new(namespace: &str, name: &str) -> Self {
        Self { namespace: namespace.to_owned(), name: name.to_owned(), ..Self::default() }
    }

    /// One of NETCONF's own.
    pub fn base(name: &str) -> Self {
        Self::new(BASE, name)
    }

    /// The same with a text.
    pub fn saying(mut self, text: impl Into<String>) -> Self {
        self.text = text.into();
        self
    }

    /// The same with a child more.
    pub fn with(mut self, child: Self) -> Self {
        self.children.push(child);
        self
    }

    /// The same with more children.
    pub fn with_all(mut self, children: impl IntoIterator<Item = Self>) -> Self {
        self.children.extend(children);
        self
    }

    /// The same with an attribute more.
    pub fn having(mut self, namespace: &str, name: &str, value: &str) -> Self {
        self.attributes.push((namespace.to_owned(), name.to_owned(), value.to_owned()));
        self
    }

    /// Its first child of a name, in whatever namespace.
    pub fn child(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|child| child.name == name)
    }

    /// All its children of a name.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |child| child.name == name)
    }

    /// The text of its first child of a name.
    pub fn says(&self, name: &str) -> Option<&str> {
        self.child(name).map(|child| child.text.as_str())
    }

    /// An attribute, in whatever namespace.
    pub fn attribute(&self, name: &str) -> Option<&str> {
        let found = self.attributes.iter().find(|(_, own, _)| own == name);
        found.map(|(_, _, value)| value.as_str())
    }

    /// Reads a document. There are no document types in these messages (RFC 6241, section 3), so that nothing can refer to
    /// anything outside, or grow by being read.
    ///
    /// # Errors
    /// If it is not well-formed, or nested more deeply than any data of ours.
    pub fn read(text: &str) -> Result<Self, String> {
        let document = roxmltree::Document::parse(text).map_err(|error| error.to_string())?;
        Self::of(document.root_element(), 0)
    }

    fn of(node: roxmltree::Node<'_, '_>, depth: usize) -> Result<Self, String> {
        const DEEPEST: usize = 64;
        if depth > DEEPEST {
            return Err("it is nested too deeply".to_owned());
        }
        let name = node.tag_name();
        let mut element = Self::new(name.namespace().unwrap_or_default(), name.name());
        for one in node.attributes() {
            let namespace = one.namespace().unwrap_or_default().to_owned();
            element.attributes.push((namespace, one.name().to_owned(), one.value().to_owned()));
        }
        for child in node.children().filter(roxmltree::Node::is_element) {
            element.children.push(Self::of(child, depth + 1)?);
        }
        if element.children.is_empty() {
            element.text = node.children().filter_map(|child| child.text()).collect();
        }
        Ok(element)
    }

    /// Writes it.
    pub fn write(&self) -> String {
        let mut out = String::new();
        self.write_in("", &mut out);
        out
    }

    /// Namespaces are said where they change; attributes of one have the prefix `a`.
    fn write_in(&self, around: &str, out: &mut String) {
        let _ = write!(out, "<{}", self.name);
        if self.namespace != around {
            let _ = write!(out, " xmlns=\"{}\"", escape(&self.namespace));
        }
        for (namespace, name, value) in &self.attributes {
            let value = escape(value);
            let _ = match namespace.as_str() {
                "" => write!(out, " {name}=\"{value}\""),
                XMLNS => write!(out, " xmlns:{name}=\"{value}\""),
                namespace => write!(out, " xmlns:a=\"{}\" a:{name}=\"{value}\"", escape(namespace)),
            };
        }
        if self.children.is_empty() && self.text.is_empty() {
            out.push_str("/>");
            return;
        }
        out.push('>');
        match self.children.is_empty() {
            true => out.push_str(&escape(&self.text)),
            false => self.children.iter().for_each(|child| child.write_in(&self.namespace, out)),
        }
        let _ = write!(out, "</{}>", self.name);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_as_it_was() {
        let inner = Element::new("urn:x", "data").saying("a < b & \"c\" ]]> \u{e4}");
        let whole = Element::base("rpc").having("", "message-id", "7").with(
            Element::base("config")
                .with(inner.having(BASE, "operation", "replace"))
                .with(Element::new("urn:x", "none")),
        );
        assert_eq!(Element::read(&whole.write()), Ok(whole));
    }

    #[test]
    fn what_could_refer_to_something_else_is_refused() {
        let bomb = "<!DOCTYPE a [<!ENTITY b \"bb\">]><a>&b;</a>";
        for text in [bomb, "<a>", "<a></b>", "", "&lt;", "<a/><b/>"] {
            assert!(Element::read(text).is_err(), "{text}");
        }
        let deep = "<a>".repeat(500) + &"</a>".repeat(500);
        assert!(Element::read(&deep).is_err());
    }
}
