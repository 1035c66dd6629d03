//! The pages that are carried along, in a real browser: what is ticked stays, what is saved is taken by `walk`, and nothing is
//! wider than a telephone.

mod common;

use common::{Bench, demo};
use serde_json::Value;
use std::collections::HashMap;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

/// The width of a telephone.
const NARROW: u32 = 390;
/// So long may the browser take for all that a page does.
const PATIENCE: Duration = Duration::from_secs(60);

/// The browser, where it is.
fn browser() -> Option<PathBuf> {
    let paths = std::env::var_os("PATH")?;
    let names = ["chromium", "chromium-browser"];
    let all = std::env::split_paths(&paths).flat_map(|path| names.map(|name| path.join(name)));
    let found = all.into_iter().find(|file| file.is_file());
    // `scripts/test` has tried it, and says what is skipped.
    let needed = std::env::var_os("BASTIUM_BROWSER_NEEDED").is_some();
    assert!(found.is_some() || !needed, "there is no browser");
    found.filter(|browser| needed || runs(browser))
}

/// Whether it shows a page on this machine.
fn runs(browser: &Path) -> bool {
    let profile = std::env::temp_dir().join(format!("bastium-browser-{}", std::process::id()));
    let shown = Command::new(browser)
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--dump-dom", "about:blank"])
        .arg(format!("--user-data-dir={}", profile.display()))
        .output();
    let _ = std::fs::remove_dir_all(profile);
    shown.is_ok_and(|shown| String::from_utf8_lossy(&shown.stdout).contains("<body>"))
}

/// Hands out pages on this machine, one request after the other. The last one ends it.
fn serve(pages: HashMap<&'static str, String>) -> (u16, impl FnOnce()) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let port = listener.local_addr().expect("its number").port();
    let serving = std::thread::spawn(move || {
        for stream in listener.incoming().filter_map(Result::ok) {
            let Some(path) = asked(&stream) else { continue };
            if path == "/end" {
                return;
            }
            let (status, body) = match pages.get(path.as_str()) {
                Some(body) => ("200 OK", body.as_str()),
                None => ("404 Not Found", ""),
            };
            let head = format!(
                "HTTP/1.1 {status}\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: {}\r\nConnection: \
                 close\r\n\r\n",
                body.len()
            );
            let mut stream = stream;
            let _ =
                stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body.as_bytes()));
        }
    });
    let end = move || {
        if let Ok(mut stream) = TcpStream::connect(("127.0.0.1", port)) {
            let _ = stream.write_all(b"GET /end HTTP/1.1\r\n\r\n");
        }
        serving.join().expect("the pages");
    };
    (port, end)
}

/// The path that a request is for.
fn asked(mut stream: &TcpStream) -> Option<String> {
    stream.set_read_timeout(Some(Duration::from_secs(2))).ok()?;
    let (mut head, mut part) = (Vec::new(), [0; 1_024]);
    while !head.windows(4).any(|end| end == b"\r\n\r\n") && head.len() < 16_384 {
        match stream.read(&mut part) {
            Ok(0) | Err(_) => break,
            Ok(read) => head.extend(&part[..read]),
        }
    }
    let head = String::from_utf8_lossy(&head).into_owned();
    head.split_whitespace().nth(1).map(str::to_owned)
}

/// A page that looks at another one in a window as wide as a telephone, and writes down what `script` returns.
fn looking_at(script: &str) -> String {
    format!(
        "<!doctype html><meta charset=utf-8><iframe id=phone style='width:{NARROW}px;height:800px;border:0'></iframe><pre \
         id=found></pre><script>\n\
         const phone = document.getElementById('phone');\n\
         const load = path => new Promise(done => {{ phone.onload = () => done(phone.contentWindow); phone.src = path; }});\n\
         const saved = page => new Promise(done => {{\n\
           page.URL.createObjectURL = blob => {{ blob.text().then(done); return 'about:blank#'; }};\n\
           page.HTMLAnchorElement.prototype.click = () => {{}};\n\
           page.document.getElementById('save').click();\n\
         }});\n\
         const tick = box => {{ box.checked = true; box.dispatchEvent(new Event('change')); }};\n\
         const type = (field, text) => {{ field.value = text; field.dispatchEvent(new Event('input')); }};\n\
         const wide = page => page.document.documentElement.scrollWidth;\n\
         (async () => {{ {script} }})().catch(error => ({{ error: String(error) }})).then(found => {{\n\
           document.getElementById('found').textContent = 'found:' + encodeURIComponent(JSON.stringify(found)) + ':';\n\
         }});\n\
         </script>"
    )
}

/// What the script of a page has found. Whatever a page keeps, it keeps in `profile`.
fn found(browser: &Path, bench: &Bench, port: u16, path: &str) -> Value {
    let profile = bench.file("profile");
    let mut child = Command::new(browser)
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage"])
        .args(["--no-first-run", "--disable-background-networking", "--disable-extensions"])
        .args(["--window-size=1280,900", "--virtual-time-budget=20000", "--dump-dom"])
        .arg(format!("--user-data-dir={}", profile.display()))
        .arg(format!("http://127.0.0.1:{port}{path}"))
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("the browser");
    let mut out = child.stdout.take().expect("its output");
    let reading = std::thread::spawn(move || {
        let mut text = String::new();
        let _ = out.read_to_string(&mut text);
        text
    });
    let begun = std::time::Instant::now();
    while child.try_wait().expect("a child").is_none() {
        if begun.elapsed() > PATIENCE {
            let _ = child.kill();
            panic!("the browser does not end");
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let text = reading.join().expect("what it printed");
    let found =
        text.split("<pre id=\"found\">found:").nth(1).and_then(|rest| rest.split(':').next());
    let found = found.unwrap_or_else(|| panic!("the script did not end: {text}"));
    let found: Value = serde_json::from_str(&decoded(found)).expect("JSON");
    assert_eq!(found.get("error"), None, "{found}");
    found
}

/// Text of which all but letters and digits is written as percent signs and numbers (RFC 3986, 2.1).
fn decoded(text: &str) -> String {
    let mut bytes = Vec::new();
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        let mut digit = || rest.next().and_then(|digit| char::from(digit).to_digit(16));
        match byte {
            b'%' => bytes.extend(
                digit()
                    .zip(digit())
                    .map(|(high, low)| u8::try_from(high * 16 + low).expect("two digits")),
            ),
            byte => bytes.push(byte),
        }
    }
    String::from_utf8(bytes).expect("UTF-8")
}

#[test]
fn what_is_ticked_on_a_telephone_stays_and_is_taken_by_the_walk() {
    let Some(browser) = browser() else { return };
    let bench = Bench::new();
    let plan = demo("clinic.toml");
    bench.write("plan.toml", &plan);
    // What the second check is about changes, and no other.
    bench.write("next.toml", plan.replace("service = \"printing\"", "service = \"ipp\""));
    let page = |plan: &str| {
        let run = bench.run(&format!("checklist --plan {plan} --page {plan}.html"));
        assert_eq!(run.code, 0, "{}", run.err);
        std::fs::read_to_string(bench.file(&format!("{plan}.html"))).expect("the page")
    };
    let first = "
        const page = await load('/plan');
        const rows = [...page.document.querySelectorAll('tr[data-check]')];
        const print = rows.find(row => row.dataset.check.startsWith('exception.desks-print'));
        tick(rows[0].querySelector('.ok'));
        tick(print.querySelector('.ok'));
        tick(rows[1].querySelector('.no'));
        type(rows[1].querySelector('.seen'), 'nothing <\\/script><b>came');
        type(page.document.getElementById('by'), 'Anna \\u{1F98A} \"Fox\"');
        const lines = await saved(page);
        const count = page.document.getElementById('count').textContent;
        return { lines, count, wide: wide(page), rows: rows.length };";
    let again = "
        const ticked = async path => {
          const page = await load(path);
          const rows = [...page.document.querySelectorAll('tr[data-check]')];
          const is = word => rows.filter(row => row.querySelector('.' + word).checked).map(row => row.dataset.check);
          return { ok: is('ok'), no: is('no'), by: page.document.getElementById('by').value,
                   seen: rows[1].querySelector('.seen').value };
        };
        return { same: await ticked('/plan'), next: await ticked('/next') };";
    let pages = HashMap::from([
        ("/plan", page("plan.toml")),
        ("/next", page("next.toml")),
        ("/first", looking_at(first)),
        ("/again", looking_at(again)),
    ]);
    let (port, end) = serve(pages);
    let made = found(&browser, &bench, port, "/first");
    assert!(made["wide"].as_u64().is_some_and(|wide| wide <= u64::from(NARROW)), "{made}");
    assert!(
        made["count"].as_str().is_some_and(|text| text.starts_with("2 as expected, 1 not")),
        "{made}"
    );
    // The next day, in a new window.
    let kept = found(&browser, &bench, port, "/again");
    let same = &kept["same"];
    assert_eq!(same["ok"].as_array().map(Vec::len), Some(2), "{kept}");
    assert_eq!(same["seen"], "nothing </script><b>came");
    assert_eq!(same["by"], "Anna \u{1F98A} \"Fox\"");
    // With a changed plan, only the tick of what is about something else now is gone.
    let ok = kept["next"]["ok"].as_array().expect("ticks");
    assert_eq!((ok.len(), &ok[0], &kept["next"]["no"]), (1, &same["ok"][0], &same["no"]), "{kept}");
    end();
    bench.write("phone.jsonl", made["lines"].as_str().expect("lines"));
    let walk = bench
        .run("walk --status --plan plan.toml --with phone.jsonl --results own.jsonl --format json");
    let sheet = walk.json();
    assert_eq!((&sheet["failed"], &sheet["of_others"]), (&1.into(), &0.into()), "{}", walk.err);
    let results = sheet["results"].as_array().expect("results");
    let failed = results.iter().find(|one| one["outcome"] == "fail").expect("a failed one");
    assert_eq!(failed["by"], "Anna \u{1F98A} \"Fox\"");
    assert!(
        failed["note"].as_str().is_some_and(|note| note.contains("</script><b>came")),
        "{failed}"
    );
}

#[test]
fn every_page_fits_a_telephone() {
    let Some(browser) = browser() else { return };
    let bench = Bench::new();
    bench.write("plan.toml", demo("farm.toml"));
    let page = |words: &str, file: &str| {
        let run = bench.run(&format!("{words} --plan plan.toml --page {file}"));
        assert_eq!(run.code, 0, "{}", run.err);
        std::fs::read_to_string(bench.file(file)).expect("the page")
    };
    let script = "
        const widths = {};
        for (const path of ['/list', '/full', '/worksheet']) { widths[path] = wide(await load(path)); }
        return widths;";
    let pages = HashMap::from([
        ("/list", page("checklist", "list.html")),
        ("/full", page("checklist --full", "full.html")),
        ("/worksheet", page("worksheet", "worksheet.html")),
        ("/look", looking_at(script)),
    ]);
    let (port, end) = serve(pages);
    let widths = found(&browser, &bench, port, "/look");
    end();
    for path in ["/list", "/full", "/worksheet"] {
        let wide = widths[path].as_u64();
        assert!(wide.is_some_and(|wide| wide <= u64::from(NARROW)), "{path}: {widths}");
    }
}
