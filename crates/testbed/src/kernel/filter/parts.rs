//! A rule file in parts that each fit one message to the kernel. Inside a user namespace `nft` cannot enlarge
//! its send buffer, so that a file of some ninety kilobytes fails whole. What has to be there first comes
//! first: sets and chains, then the elements of sets, then rules, then the elements of maps, which name chains.

/// The most bytes of a part: a netlink message is two to three times as large as its text, and the buffer has
/// 212,992 bytes where nobody has changed it.
const MOST: usize = 32 * 1024;

/// A piece of a table: its kind and name, and what stands between its braces, line by line.
struct Piece<'t> {
    kind: &'t str,
    name: &'t str,
    body: &'t str,
}

/// A file in parts, to be loaded one after the other; the whole where it is not written in a way that can be
/// cut.
pub(super) fn parts(text: &str) -> Vec<String> {
    cut(text).unwrap_or_else(|| vec![text.to_owned()])
}

/// How many rules there are in a text, where it can be cut.
pub(super) fn rules(text: &str) -> Option<usize> {
    let mut count = 0;
    for (_, body) in tables(text)?.1 {
        for piece in pieces(body)? {
            if piece.kind == "chain" {
                count += statements(piece.body).iter().filter(|line| !is_head(line)).count();
            }
        }
    }
    Some(count)
}

fn cut(text: &str) -> Option<Vec<String>> {
    let (others, tables) = tables(text)?;
    let mut first = others.before;
    let (mut elements, mut rules, mut verdicts) = (Vec::new(), Vec::new(), Vec::new());
    for (head, body) in tables {
        let table = head.strip_prefix("table ")?.trim();
        first.push_str(&format!("table {table} {{\n"));
        for piece in pieces(body)? {
            let Piece { kind, name, body } = piece;
            match kind {
                "chain" => {
                    let all = statements(body);
                    let (heads, own): (Vec<&str>, Vec<&str>) =
                        all.into_iter().partition(|line| is_head(line));
                    first.push_str(&format!("chain {name} {{\n{}\n}}\n", heads.join("\n")));
                    rules
                        .extend(own.iter().map(|rule| format!("add rule {table} {name} {rule}\n")));
                }
                "set" | "map" => {
                    let all = statements(body);
                    let (own, heads): (Vec<&str>, Vec<&str>) =
                        all.into_iter().partition(|line| line.starts_with("elements"));
                    first.push_str(&format!("{kind} {name} {{\n{}\n}}\n", heads.join("\n")));
                    let verdict_map = kind == "map";
                    for line in own {
                        let inner = line.split_once('{')?.1.rsplit_once('}')?.0;
                        let whole = grouped(inner);
                        let to = if verdict_map { &mut verdicts } else { &mut elements };
                        to.extend(
                            whole
                                .into_iter()
                                .map(|group| format!("add element {table} {name} {{ {group} }}\n")),
                        );
                    }
                }
                _ => first.push_str(&format!("{kind} {name} {{\n{body}\n}}\n")),
            }
        }
        first.push_str("}\n");
    }
    let mut all = vec![first];
    for commands in [elements, rules, verdicts] {
        all.extend(packed(commands));
    }
    all.extend((!others.after.is_empty()).then_some(others.after));
    Some(all)
}

/// Commands, as many together as fit a part.
fn packed(commands: Vec<String>) -> Vec<String> {
    let mut parts: Vec<String> = Vec::new();
    for command in commands {
        match parts.last_mut().filter(|part| part.len() + command.len() <= MOST) {
            Some(part) => part.push_str(&command),
            None => parts.push(command),
        }
    }
    parts
}

/// Elements, as many together as fit a part.
fn grouped(inner: &str) -> Vec<String> {
    let mut groups: Vec<String> = Vec::new();
    for element in inner.split(',').map(str::trim).filter(|element| !element.is_empty()) {
        match groups.last_mut().filter(|group| group.len() + element.len() < MOST / 2) {
            Some(group) => {
                group.push_str(", ");
                group.push_str(element);
            }
            None => groups.push(element.to_owned()),
        }
    }
    groups
}

fn is_head(line: &str) -> bool {
    ["type ", "policy ", "comment "].iter().any(|word| line.starts_with(word))
}

/// Commands that stand before the first table's content, and behind it.
#[derive(Default)]
struct Others {
    before: String,
    after: String,
}

/// The tables of a text, each by its head and its content; and everything else.
fn tables(text: &str) -> Option<(Others, Vec<(&str, &str)>)> {
    let mut others = Others::default();
    let mut all = Vec::new();
    let mut rest = text;
    while !rest.trim().is_empty() {
        let line_end = rest.find('\n').unwrap_or(rest.len());
        let line = rest[..line_end].trim();
        if line.starts_with("table ") && line.ends_with('{') {
            let open = rest.find('{')?;
            let close = closing(&rest[open..])? + open;
            all.push((rest[..open].trim(), &rest[open + 1..close]));
            rest = &rest[close + 1..];
            continue;
        }
        if !line.is_empty() && !line.starts_with('#') {
            let to = if all.is_empty() { &mut others.before } else { &mut others.after };
            to.push_str(line);
            to.push('\n');
        }
        rest = rest.get(line_end + 1..).unwrap_or_default();
    }
    Some((others, all))
}

/// Where the brace that a text begins with is closed.
fn closing(text: &str) -> Option<usize> {
    let (mut depth, mut quoted, mut remark) = (0usize, false, false);
    for (at, letter) in text.char_indices() {
        match letter {
            '\n' => remark = false,
            _ if remark => {}
            '"' => quoted = !quoted,
            _ if quoted => {}
            '#' => remark = true,
            '{' => depth += 1,
            '}' => {
                depth -= 1;
                if depth == 0 {
                    return Some(at);
                }
            }
            _ => {}
        }
    }
    None
}

/// The pieces of a table.
fn pieces(body: &str) -> Option<Vec<Piece<'_>>> {
    let mut all = Vec::new();
    let mut rest = body;
    loop {
        rest = rest.trim_start();
        if rest.is_empty() {
            return Some(all);
        }
        if rest.starts_with('#') {
            rest = rest.split_once('\n').map_or("", |(_, rest)| rest);
            continue;
        }
        let open = rest.find('{')?;
        let mut words = rest[..open].split_whitespace();
        let (kind, name) = (words.next()?, words.next()?);
        if words.next().is_some() {
            return None;
        }
        let close = closing(&rest[open..])? + open;
        all.push(Piece { kind, name, body: &rest[open + 1..close] });
        rest = &rest[close + 1..];
    }
}

/// The statements of a piece: a line each, but for one with braces that are closed further down.
fn statements(body: &str) -> Vec<&str> {
    let mut all = Vec::new();
    let mut rest = body;
    loop {
        rest = rest.trim_start_matches(|c: char| c.is_whitespace() || c == ';');
        if rest.is_empty() {
            return all;
        }
        let (mut depth, mut quoted, mut end) = (0i32, false, rest.len());
        let remark = rest.starts_with('#');
        for (at, letter) in rest.char_indices() {
            match letter {
                '\n' if remark || depth <= 0 => {
                    end = at;
                    break;
                }
                _ if remark => {}
                '"' => quoted = !quoted,
                _ if quoted => {}
                '{' => depth += 1,
                '}' => depth -= 1,
                _ => {}
            }
        }
        if !remark {
            all.push(rest[..end].trim());
        }
        rest = &rest[end..];
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FILE: &str = "#!/usr/sbin/nft -f\ntable inet t\ndelete table inet t\n\ntable inet t {\n\t# a } in a remark\n\
        \tset s {\n\t\ttype ipv4_addr\n\t\telements = {\n\t\t\t10.0.0.1,\n\t\t\t10.0.0.2\n\t\t}\n\t}\n\
        \tmap m {\n\t\ttype ifname : verdict\n\t\telements = {\n\t\t\t\"a\" : jump c\n\t\t}\n\t}\n\
        \tchain in {\n\t\ttype filter hook input priority filter; policy drop\n\t\tip saddr @s accept comment \"{\"\n\
        \t\ttcp dport { 1, 2 } drop\n\t}\n\tchain c {\n\t}\n}\nadd element inet t s { 10.0.0.3 }\n";

    #[test]
    fn what_is_asked_for_comes_before_what_asks() {
        let all = parts(FILE);
        assert!(all[0].starts_with("table inet t\ndelete table inet t\ntable inet t {\n"));
        assert!(
            all[0].contains("chain in {\ntype filter hook input priority filter; policy drop\n}")
        );
        assert!(!all[0].contains("10.0.0.1") && !all[0].contains("accept"), "{}", all[0]);
        assert_eq!(all[1], "add element inet t s { 10.0.0.1, 10.0.0.2 }\n");
        assert_eq!(
            all[2],
            "add rule inet t in ip saddr @s accept comment \"{\"\nadd rule inet t in tcp dport { 1, 2 } drop\n"
        );
        assert_eq!(all[3], "add element inet t m { \"a\" : jump c }\n");
        assert_eq!(all[4], "add element inet t s { 10.0.0.3 }\n");
        assert_eq!(rules(FILE), Some(2));
    }

    #[test]
    fn a_large_file_is_cut_small() {
        let rule =
            |number: u32| format!("\t\tip saddr 10.{}.{}.1 accept\n", number >> 8, number & 255);
        let many: String = (0..9_000).map(rule).collect();
        let file = format!("table inet t {{\n\tchain c {{\n{many}\t}}\n}}\n");
        let all = parts(&file);
        assert!(all.len() > 5 && all.iter().all(|part| part.len() <= MOST));
        assert_eq!(rules(&file), Some(9_000));
    }
}
