//! A browser for tests: headless Chromium by its driver, over the W3C WebDriver protocol.

use serde_json::{Value, json};
use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const PATIENCE: Duration = Duration::from_secs(30);

pub struct Browser {
    driver: Child,
    session: String,
    agent: ureq::Agent,
    #[allow(dead_code, reason = "it only has to live as long")]
    profile: tempfile::TempDir,
}

impl Browser {
    pub fn start((width, height): (u32, u32)) -> Browser {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed");
        let mut lines = BufReader::new(driver.stdout.take().expect("its output")).lines();
        let port = loop {
            let line = lines.next().expect("it says its port").expect("text");
            if let Some(rest) = line.split("successfully on port ").nth(1) {
                break rest.trim_end_matches('.').trim().to_owned();
            }
        };
        std::thread::spawn(move || lines.for_each(drop));
        let profile = tempfile::tempdir().expect("a scratch folder");
        let config = ureq::Agent::config_builder().http_status_as_error(false).timeout_global(Some(PATIENCE));
        let agent: ureq::Agent = config.build().into();
        let arguments = [
            "--headless".to_owned(),
            "--no-sandbox".to_owned(),
            "--disable-gpu".to_owned(),
            "--disable-quic".to_owned(),
            "--no-first-run".to_owned(),
            "--disable-background-networking".to_owned(),
            "--disable-component-update".to_owned(),
            "--disable-sync".to_owned(),
            "--disable-dev-shm-usage".to_owned(),
            format!("--user-data-dir={}", profile.path().display()),
            format!("--window-size={width},{height}"),
        ];
        let capabilities = json!({"capabilities": {"alwaysMatch": {
            "goog:chromeOptions": {"args": arguments}, "goog:loggingPrefs": {"browser": "ALL"},
        }}});
        let mut browser =
            Browser { driver, session: format!("http://127.0.0.1:{port}/session"), agent, profile };
        let answer = browser.post("", &capabilities);
        let id = answer["sessionId"].as_str().unwrap_or_else(|| panic!("no session: {answer}")).to_owned();
        browser.session = format!("{}/{id}", browser.session);
        // A window of a phone is narrower than what windows may be by themselves.
        let metrics = json!({"cmd": "Emulation.setDeviceMetricsOverride",
            "params": {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": width < 500}});
        browser.post("/goog/cdp/execute", &metrics);
        browser
    }

    fn post(&self, path: &str, body: &Value) -> Value {
        let mut answer = self
            .agent
            .post(format!("{}{path}", self.session))
            .header("content-type", "application/json")
            .send(body.to_string())
            .expect("the driver answers");
        let text = answer.body_mut().read_to_string().expect("text");
        let value: Value = serde_json::from_str(&text).expect("JSON");
        let value = value["value"].clone();
        assert!(answer.status().is_success(), "{path} {body}: {value}");
        value
    }

    pub fn open(&self, url: &str) {
        self.post("/url", &json!({ "url": url }));
    }

    /// Runs a script and gives what it returns.
    pub fn run(&self, script: &str) -> Value {
        self.post("/execute/sync", &json!({"script": script, "args": []}))
    }

    /// Waits until a script returns true.
    pub fn wait(&self, what: &str, script: &str) {
        let begin = Instant::now();
        while self.run(script) != json!(true) {
            let in_time = begin.elapsed() < PATIENCE;
            assert!(in_time, "waited in vain for {what}: {}", self.run("return document.body.innerText"));
            std::thread::sleep(Duration::from_millis(50));
        }
    }

    fn element(&self, selector: &str) -> String {
        let found = self.post("/element", &json!({"using": "css selector", "value": selector}));
        let id = found.as_object().and_then(|object| object.values().next()).and_then(Value::as_str);
        id.unwrap_or_else(|| panic!("no {selector}")).to_owned()
    }

    /// A click of the mouse, where the element is.
    pub fn click(&self, selector: &str) {
        self.post(&format!("/element/{}/click", self.element(selector)), &json!({}));
    }

    pub fn type_into(&self, selector: &str, text: &str) {
        self.post(&format!("/element/{}/value", self.element(selector)), &json!({ "text": text }));
    }

    /// Chooses an entry of a list.
    pub fn choose(&self, selector: &str, at: usize) {
        self.click(&format!("{selector} option:nth-child({})", at + 1));
    }

    /// Keys to whatever has the focus.
    pub fn keys(&self, text: &str) {
        let strokes: Vec<Value> = text
            .chars()
            .flat_map(|key| {
                [json!({"type": "keyDown", "value": key}), json!({"type": "keyUp", "value": key})]
            })
            .collect();
        self.post("/actions", &json!({"actions": [{"type": "key", "id": "keys", "actions": strokes}]}));
    }

    /// What went wrong in the page.
    pub fn complaints(&self) -> Vec<String> {
        let log = self.post("/se/log", &json!({"type": "browser"}));
        let severe = log.as_array().into_iter().flatten().filter(|entry| entry["level"] == "SEVERE");
        // A browser asks every server for an icon.
        let told = severe.map(|entry| entry["message"].as_str().unwrap_or_default().to_owned());
        told.filter(|text| !text.contains("favicon")).collect()
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        let _ = self.agent.delete(&self.session).call();
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}
