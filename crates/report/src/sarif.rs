//! Findings for code-review tools: SARIF 2.1.0 (OASIS), with a rule for each kind of finding.

use crate::sheets::{Finding, FindingSheet};
use bastium_core::findings::explain::{PAGES, Page};
use bastium_gateway::clean;
use serde_json::{Value, json};

/// Writes findings as SARIF. `file` is the plan's path as a relative URI.
pub fn sarif(sheet: &FindingSheet, file: &str) -> String {
    let used: Vec<&Page> =
        PAGES.iter().filter(|page| sheet.findings.iter().any(|f| f.name == page.name)).collect();
    let rules: Vec<Value> = used
        .iter()
        .map(|page| {
            json!({
                "id": page.name,
                "fullDescription": { "text": page.text },
                "help": { "text": format!("bastium explain {}", page.name) },
                "defaultConfiguration": { "level": level(page.severity.word()) },
            })
        })
        .collect();
    let results: Vec<Value> = sheet.findings.iter().map(|finding| result(finding, file)).collect();
    let log = json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "bastium",
                "version": env!("CARGO_PKG_VERSION"),
                "rules": rules,
            } },
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    });
    format!("{log:#}\n")
}

fn level(severity: &str) -> &'static str {
    match severity {
        "error" => "error",
        "warning" => "warning",
        _ => "note",
    }
}

fn result(finding: &Finding, file: &str) -> Value {
    let mut place = json!({ "artifactLocation": { "uri": uri(file) } });
    if let Some(line) = finding.line {
        place["region"] = json!({
            "startLine": line,
            "startColumn": finding.column,
            "endLine": finding.end_line,
            "endColumn": finding.end_column,
        });
    }
    let related = finding.related.iter().map(|other| {
        json!({
            "physicalLocation": {
                "artifactLocation": { "uri": uri(file) },
                "region": { "startLine": other.line, "startColumn": other.column },
            },
            "message": { "text": message(&other.says) },
        })
    });
    let text = [&finding.says, &finding.why, &finding.help];
    let text = text.into_iter().filter(|text| !text.is_empty()).map(String::as_str);
    let mut result = json!({
        "ruleId": finding.name,
        "level": level(finding.severity),
        "message": { "text": message(&text.collect::<Vec<_>>().join(". ")) },
        "locations": [{ "physicalLocation": place }],
        "relatedLocations": related.collect::<Vec<_>>(),
        // The same finding keeps it while lines above it come and go.
        "partialFingerprints": { "nameAndWords/v1": format!("{}: {}", finding.name, clean(&finding.says)) },
    });
    if finding.known {
        result["suppressions"] = json!([{ "kind": "inSource" }]);
    }
    result
}

/// Text as a message: what a reader would take for a placeholder or a link is escaped (SARIF 2.1.0, 3.11.5 and 3.11.6).
fn message(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in clean(text).chars() {
        match c {
            '{' | '}' => safe.extend([c, c]),
            '[' | ']' | '\\' => safe.extend(['\\', c]),
            _ => safe.push(c),
        }
    }
    safe
}

/// A path as a URI reference (RFC 3986): everything that is not unreserved or a slash is encoded.
fn uri(path: &str) -> String {
    let mut uri = String::new();
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                uri.push(byte.into());
            }
            _ => uri.push_str(&format!("%{byte:02X}")),
        }
    }
    uri
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_of_a_plan_makes_no_link_and_no_placeholder() {
        assert_eq!(message("[go](http://192.0.2.1) {0}"), "\\[go\\](http://192.0.2.1) {{0}}");
        assert_eq!(message("a\u{1b}\\"), "a\\\\u{{1b}}\\\\");
    }

    #[test]
    fn a_path_becomes_a_reference() {
        assert_eq!(uri("plans/my site.toml"), "plans/my%20site.toml");
        assert_eq!(uri("é.toml"), "%C3%A9.toml");
    }
}
