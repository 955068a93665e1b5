//! The report's page in a browser: pointed at, switched, turned, read by keyboard, with nothing said on the console.
//!
//! It drives headless Chromium through ChromeDriver (`scripts/setup browser` installs both), by the WebDriver protocol of the W3C.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use serde_json::{Value, json};

/// A browser with one page.
struct Browser {
    driver: Child,
    session: String,
}

impl Browser {
    fn open() -> Self {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .spawn()
            .expect("ChromeDriver: scripts/setup browser installs it");
        // It tells the port that it found free.
        let told = BufReader::new(driver.stdout.take().unwrap()).lines().map(Result::unwrap);
        let port = told
            .filter_map(|line| Some(line.split("on port ").nth(1)?.trim_end_matches('.').to_owned()))
            .find(|port| port != "0" && port.bytes().all(|byte| byte.is_ascii_digit()))
            .expect("a port");
        let base = format!("http://127.0.0.1:{port}/session");
        let args = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--window-size=1280,900",
        ];
        let wanted = json!({ "capabilities": { "alwaysMatch": {
            "goog:chromeOptions": { "args": args },
            "goog:loggingPrefs": { "browser": "ALL" },
        } } });
        let answer: Value =
            ureq::post(&base).send_json(&wanted).expect("a session").body_mut().read_json().unwrap();
        let id = answer["value"]["sessionId"].as_str().expect("a session's id");
        Self { driver, session: format!("{base}/{id}") }
    }

    fn ask(&self, what: &str, body: &Value) -> Value {
        let mut answer = ureq::post(format!("{}/{what}", self.session)).send_json(body).unwrap();
        let mut answer: Value = answer.body_mut().read_json().unwrap();
        answer["value"].take()
    }

    fn go(&self, page: &Path) {
        self.ask("url", &json!({ "url": format!("file://{}", page.display()) }));
    }

    /// What a script returns.
    fn run(&self, script: &str) -> Value {
        self.ask("execute/sync", &json!({ "script": script, "args": [] }))
    }

    fn text(&self, script: &str) -> String {
        self.run(script).as_str().unwrap_or_default().to_owned()
    }

    /// Moves the pointer to the middle of the first element of a selector, and presses there or not.
    fn point(&self, selector: &str, press: bool) {
        let found = self.run(&format!(
            "const it = document.querySelector({selector:?}); it.scrollIntoView({{ block: 'center' }});\
             const box = it.getBoundingClientRect(); return [box.x + box.width / 2, box.y + box.height / 2];"
        ));
        let at = |nth: usize| found[nth].as_f64().unwrap().round();
        let mut actions = vec![json!({ "type": "pointerMove", "duration": 0, "x": at(0), "y": at(1) })];
        if press {
            actions.push(json!({ "type": "pointerDown", "button": 0 }));
            actions.push(json!({ "type": "pointerUp", "button": 0 }));
        }
        let pointer = json!({ "type": "pointer", "id": "mouse", "actions": actions });
        self.ask("actions", &json!({ "actions": [pointer] }));
    }

    /// Points at an element and returns what a script then finds to read: at once, or on a busy machine once the page is laid out.
    fn told_at(&self, selector: &str, script: &str) -> String {
        for _ in 0..50 {
            self.point(selector, false);
            let told = self.text(script);
            if !told.is_empty() {
                return told;
            }
            // A pointer that stays where it is enters nothing: away, then back.
            self.point("h1", false);
            std::thread::sleep(Duration::from_millis(100));
        }
        String::new()
    }

    fn key(&self, key: char) {
        let press = ["keyDown", "keyUp"].map(|kind| json!({ "type": kind, "value": key }));
        self.ask("actions", &json!({ "actions": [{ "type": "key", "id": "keys", "actions": press }] }));
    }

    /// What was written to the console since it was asked last.
    fn console(&self) -> Vec<String> {
        let said = self.ask("se/log", &json!({ "type": "browser" }));
        let said = said.as_array().expect("a log").iter();
        said.map(|line| line["message"].as_str().unwrap_or_default().to_owned()).collect()
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = ureq::delete(&self.session).call();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

const RIGHT: char = '\u{e014}';
const SPACE: char = ' ';

#[test]
#[ignore = "slow: scripts/test runs it"]
fn the_page_works_in_a_browser() {
    let folder = tempfile::tempdir().unwrap();
    let done = assert_cmd::Command::cargo_bin("frolic")
        .unwrap()
        .current_dir(folder.path())
        .args([
            "profile",
            "beacon",
            "--set",
            "draw.size=[96, 60]",
            "--counts",
            "100,1k,10k",
            "--frames",
            "10",
        ])
        .args(["--vary", "draw.technique=each,instanced", "--out", "out"])
        .output()
        .unwrap();
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    let browser = Browser::open();
    browser.go(&folder.path().join("out/report.html"));
    assert!(browser.text("return document.title").contains("embers"));

    // Pointed at, a point says what it is; pointed away from, it is quiet.
    let tip = "const tip = document.getElementById('tip'); return tip.hidden ? '' : tip.textContent;";
    assert_eq!(browser.text(tip), "");
    let said = browser.told_at(".log .s1 .hit:last-of-type", tip);
    assert!(said.starts_with("instanced at 10k embers\nmedian ") && said.contains("draw calls"), "{said}");
    browser.point("h1", false);
    assert_eq!(browser.text(tip), "");

    // By keyboard: a point has the focus, the arrow goes to the next.
    browser.run("document.querySelector('.log .s0 .hit').focus()");
    assert!(browser.text(tip).starts_with("each at 100 embers"));
    browser.key(RIGHT);
    assert!(browser.text(tip).starts_with("each at 1k embers"), "{}", browser.text(tip));

    // A variant is hidden and shown.
    let is_shown = |selector: &str| {
        let script =
            format!("return getComputedStyle(document.querySelector({selector:?})).display !== 'none'");
        browser.run(&script) == true
    };
    assert!(is_shown(".log .series.s1"));
    browser.point("#s1", true);
    assert!(!is_shown(".log .series.s1") && is_shown(".log .series.s0"));
    browser.key(SPACE);
    assert!(is_shown(".log .series.s1"), "the box has the focus and obeys the keyboard");

    // Axes.
    assert!(is_shown(".log") && !is_shown(".linear"));
    browser.point("#linear", true);
    assert!(!is_shown(".log") && is_shown(".linear"));
    // Whatever marks lie over a point, it answers at its middle.
    let covered = "return [...document.querySelectorAll('.linear .hit')].filter(hit => {\
        hit.scrollIntoView({ block: 'center' });\
        const box = hit.getBoundingClientRect();\
        const top = document.elementFromPoint(box.x + box.width / 2, box.y + box.height / 2);\
        return !top.classList.contains('hit'); }).length";
    assert_eq!(browser.run(covered), 0);
    // Hidden, the other variant's points cannot lie over this one.
    browser.point("#s1", true);
    let said = browser.told_at(".linear .s0 .hit:last-of-type", tip);
    assert!(said.starts_with("each at 10k embers"), "{said}");

    // Dark and light, charts too.
    let paper = "return getComputedStyle(document.body).backgroundColor";
    let ink = "return getComputedStyle(document.querySelector('.linear svg text')).fill";
    let before = (browser.text(paper), browser.text(ink));
    browser.point("#turn", true);
    let after = (browser.text(paper), browser.text(ink));
    assert!(before.0 != after.0 && before.1 != after.1, "{before:?} {after:?}");
    browser.point("#turn", true);
    assert_eq!((browser.text(paper), browser.text(ink)), before);

    let console = browser.console();
    assert!(console.is_empty(), "{console:?}");
}
