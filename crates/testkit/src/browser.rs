//! Headless Chromium, driven through chromedriver on a free port.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use fantoccini::{Client, ClientBuilder};
use serde_json::{Value as Json, json};
use tempfile::TempDir;

/// How large a page is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Screen {
    /// 1280x800.
    Wide,
    /// 390x844, as on a telephone.
    Narrow,
}

/// A browser with an empty profile; closed when dropped.
#[derive(Debug)]
pub struct Browser {
    /// The WebDriver client.
    pub client: Client,
    driver: Child,
    port: u16,
    session: String,
    _folder: TempDir,
}

impl Browser {
    /// Starts chromedriver and a browser window.
    ///
    /// # Panics
    /// Where they are not installed: `make test` installs them.
    pub async fn start(dark: bool) -> Browser {
        Browser::start_with(dark, Screen::Wide).await
    }

    /// The same with a screen of a size.
    ///
    /// # Panics
    /// As above.
    pub async fn start_with(dark: bool, screen: Screen) -> Browser {
        let port = free_port();
        // Whatever the browser makes lies in a folder of ours, and goes with it.
        let folder = crate::leftovers::folder();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .env("TMPDIR", folder.path())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed: `scripts/install-packages test` does it");
        let mut arguments: Vec<String> = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
        ]
        .map(str::to_owned)
        .to_vec();
        arguments.push(format!("--user-data-dir={}", folder.path().join("profile").display()));
        if dark {
            arguments.push("--blink-settings=preferredColorScheme=0".to_owned());
        }
        let capabilities = json!({
            "goog:chromeOptions": { "args": arguments },
            "goog:loggingPrefs": { "browser": "ALL" },
        });
        let capabilities = capabilities.as_object().cloned().expect("an object");
        let deadline = Instant::now() + Duration::from_secs(30);
        let client = loop {
            let attempt = ClientBuilder::new(http_connector())
                .capabilities(capabilities.clone())
                .connect(&format!("http://127.0.0.1:{port}"))
                .await;
            match attempt {
                Ok(client) => break client,
                Err(error) if Instant::now() > deadline => panic!("no browser: {error}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(200)).await,
            }
        };
        let session = client.session_id().await.expect("a session").unwrap_or_default();
        let browser = Browser { client, driver, port, session, _folder: folder };
        let (width, height) = match screen {
            Screen::Wide => (1280, 800),
            Screen::Narrow => (390, 844),
        };
        let size =
            json!({ "width": width, "height": height, "deviceScaleFactor": 1, "mobile": screen == Screen::Narrow });
        browser.devtools("Emulation.setDeviceMetricsOverride", &size);
        browser
    }

    /// A command of the browser's own protocol, and what it gives.
    ///
    /// # Panics
    /// Where chromedriver does not answer.
    pub fn devtools(&self, command: &str, parameters: &Json) -> Json {
        let body = json!({ "cmd": command, "params": parameters }).to_string();
        let answer = self.tell("POST", "/goog/cdp/execute", &body).expect("chromedriver answers");
        answer["value"].clone()
    }

    /// What the page wrote to its console since somebody last looked, warnings and errors.
    ///
    /// # Panics
    /// Where chromedriver does not answer.
    pub fn console(&self) -> Vec<String> {
        let answer = self.tell("POST", "/se/log", "{\"type\":\"browser\"}").expect("chromedriver answers");
        let entries = answer["value"].as_array().cloned().unwrap_or_default();
        entries.iter().map(|entry| format!("{}: {}", entry["level"], entry["message"])).collect()
    }

    /// Tells chromedriver something about the session, without a runtime: also while the browser is dropped.
    fn tell(&self, method: &str, path: &str, body: &str) -> std::io::Result<Json> {
        let mut stream = TcpStream::connect(("127.0.0.1", self.port))?;
        stream.set_read_timeout(Some(Duration::from_secs(20)))?;
        let session = &self.session;
        write!(
            stream,
            "{method} /session/{session}{path} HTTP/1.1\r\nHost: 127.0.0.1:{}\r\nConnection: close\r\n\
             Content-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
            self.port,
            body.len()
        )?;
        // chromedriver keeps the connection open: the answer ends where its head says.
        let mut answer = BufReader::new(stream);
        let mut length = 0;
        loop {
            let mut line = String::new();
            answer.read_line(&mut line)?;
            match line.trim_end().split_once(':') {
                Some((name, value)) if name.eq_ignore_ascii_case("content-length") => {
                    length = value.trim().parse().unwrap_or_default();
                }
                None if line.trim_end().is_empty() => break,
                _ => {}
            }
        }
        let mut body = vec![0; length];
        answer.read_exact(&mut body)?;
        Ok(serde_json::from_slice(&body).unwrap_or_default())
    }

    /// Waits until a script gives something other than false or null.
    ///
    /// # Panics
    /// Where that does not happen in time.
    pub async fn wait_for(&self, what: &str, script: &str) -> serde_json::Value {
        let deadline = Instant::now() + Duration::from_secs(20);
        loop {
            let value = self.client.execute(script, Vec::new()).await.unwrap_or(serde_json::Value::Null);
            if !matches!(value, serde_json::Value::Null | serde_json::Value::Bool(false)) {
                return value;
            }
            if Instant::now() > deadline {
                let page = self.client.execute("return document.body.innerText", Vec::new()).await;
                panic!("waited in vain for {what}; the page says: {page:?}");
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Keeps a picture of the page where `PUENTE_SCREENSHOTS` names a folder.
    ///
    /// # Panics
    /// Where it cannot be written.
    pub async fn picture(&self, name: &str) {
        if let Some(folder) = std::env::var_os("PUENTE_SCREENSHOTS") {
            let png = self.client.screenshot().await.expect("a picture");
            std::fs::write(std::path::Path::new(&folder).join(name), png).expect("a file");
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        // The browser and its helpers end with their session; chromedriver alone would leave them running.
        let _ = self.tell("DELETE", "", "");
        let _ = self.driver.kill();
        let _ = self.driver.wait();
    }
}

fn http_connector() -> hyper_util::client::legacy::connect::HttpConnector {
    hyper_util::client::legacy::connect::HttpConnector::new()
}

fn free_port() -> u16 {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").expect("a free port");
    listener.local_addr().expect("an address").port()
}
