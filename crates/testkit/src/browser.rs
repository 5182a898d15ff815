//! Headless Chromium, driven through chromedriver on a free port.

use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use fantoccini::{Client, ClientBuilder};
use serde_json::json;
use tempfile::TempDir;

/// A browser with an empty profile; closed when dropped.
#[derive(Debug)]
pub struct Browser {
    /// The WebDriver client.
    pub client: Client,
    driver: Child,
    _profile: TempDir,
}

impl Browser {
    /// Starts chromedriver and a browser window.
    ///
    /// # Panics
    /// Where they are not installed: `make test` installs them.
    pub async fn start(dark: bool) -> Browser {
        let port = free_port();
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed: `scripts/install-test-packages` does it");
        let profile = tempfile::tempdir().expect("a folder");
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
            "--window-size=1280,943",
        ]
        .map(str::to_owned)
        .to_vec();
        arguments.push(format!("--user-data-dir={}", profile.path().display()));
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
        Browser { client, driver, _profile: profile }
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
