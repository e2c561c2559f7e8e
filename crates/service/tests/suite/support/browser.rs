//! A real browser: headless Chromium, driven through its driver.

use super::{PATIENCE, Service, free_port, until};
use std::cell::Cell;
use std::process::{Child, Command, Stdio};
use tempfile::TempDir;
use thirtyfour::prelude::*;

/// A dialog that is open.
pub const DIALOG: &str = "[role=dialog], [role=alertdialog]";

/// A browser with one page.
pub struct Browser {
    pub page: WebDriver,
    driver: Child,
    profile: TempDir,
}

impl Browser {
    /// Starts a browser with a viewport of 1280x800.
    pub async fn start() -> Browser {
        pennine_client::choose_cryptography();
        let port = free_port();
        let profile = tempfile::tempdir().expect("a profile");
        let driver = Command::new("chromedriver")
            .arg(format!("--port={port}"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("chromedriver is installed: ./check installs it");
        let mut wanted = DesiredCapabilities::chrome();
        for argument in [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--disable-dev-shm-usage",
            "--enable-precise-memory-info",
            &format!("--user-data-dir={}", profile.path().display()),
        ] {
            wanted.add_arg(argument).expect("an argument");
        }
        let server = format!("http://127.0.0.1:{port}");
        let page = until("the browser starts", || async {
            WebDriver::new(&server, wanted.clone()).await.ok()
        })
        .await;
        let browser = Browser {
            page,
            driver,
            profile,
        };
        // The window is larger than the viewport by the browser's own frame.
        let shown = browser
            .page
            .execute("return [innerWidth, innerHeight]", vec![])
            .await
            .expect("a size");
        let (width, height): (u32, u32) = shown.convert().expect("two numbers");
        let rect = browser
            .page
            .get_window_rect()
            .await
            .expect("the window's size");
        let (frame_width, frame_height) = (rect.width as u32 - width, rect.height as u32 - height);
        browser
            .page
            .set_window_rect(0, 0, 1280 + frame_width, 800 + frame_height)
            .await
            .expect("a size");
        browser
    }

    /// Starts a browser, and signs in at the console.
    pub async fn signed_in(service: &Service) -> Browser {
        let browser = Browser::start().await;
        browser.open(service, "").await;
        browser.sign_in(service).await;
        browser
    }

    /// Signs in, at the form that asks for it.
    pub async fn sign_in(&self, service: &Service) {
        self.with_token(&service.token).await;
        self.find("[data-testid=answer]").await;
    }

    /// Signs in with a token, at the form that asks for a name and a password.
    pub async fn with_token(&self, token: &str) {
        self.click("Sign in with a token").await;
        self.fill("input[name=token]", &format!("{token}\u{e007}"))
            .await;
    }

    /// Opens a page of the console.
    pub async fn open(&self, service: &Service, path: &str) {
        let address = format!("{}{path}", service.url);
        self.page.goto(&address).await.expect("the page opens");
    }

    /// Gives the page a viewport of this size, as that of another device.
    pub async fn resize(&self, width: u32, height: u32) {
        let metrics = serde_json::json!({"width": width, "height": height, "deviceScaleFactor": 1, "mobile": false});
        let devtools = self.page.cdp();
        let sized = devtools
            .send_raw("Emulation.setDeviceMetricsOverride", metrics)
            .await;
        sized.expect("the browser takes another size");
    }

    /// Waits for an element and returns it.
    pub async fn find(&self, css: &str) -> WebElement {
        let begun = std::time::Instant::now();
        loop {
            match self.page.find(By::Css(css)).await {
                Ok(found) => return found,
                Err(error) if begun.elapsed() > PATIENCE => {
                    let source = self.page.source().await.unwrap_or_default();
                    panic!("the page never showed {css}: {error}\n{source}");
                }
                Err(_) => tokio::time::sleep(std::time::Duration::from_millis(25)).await,
            }
        }
    }

    /// Waits until an element's text is as wanted, and returns the text.
    pub async fn text_when(&self, css: &str, wanted: impl Fn(&str) -> bool) -> String {
        let last = Cell::new(String::new());
        let tried = tokio::time::timeout(PATIENCE, async {
            loop {
                if let Ok(found) = self.page.find(By::Css(css)).await
                    && let Ok(text) = found.text().await
                {
                    if wanted(&text) {
                        return text;
                    }
                    last.set(text);
                }
                tokio::time::sleep(std::time::Duration::from_millis(25)).await;
            }
        });
        let Ok(text) = tried.await else {
            panic!("the text of {css} is not as wanted: {}", last.take());
        };
        text
    }

    /// Chooses from the list of this name the option with this value.
    pub async fn choose(&self, name: &str, value: &str) {
        let option = format!("select[name={name}] option[value='{value}']");
        self.find(&option).await.click().await.expect("a choice");
    }

    /// Clicks the button that says this, or has this name for screen readers, in the dialog where one is open.
    pub async fn click(&self, says: &str) {
        until(&format!("a button says {says}"), || async {
            let within = if self.page.find(By::Css(DIALOG)).await.is_ok() {
                "//*[@role='dialog' or @role='alertdialog']"
            } else {
                ""
            };
            let path =
                format!("{within}//button[normalize-space()='{says}' or @aria-label='{says}']");
            self.page
                .find(By::XPath(path))
                .await
                .ok()?
                .click()
                .await
                .ok()
        })
        .await;
    }

    /// Follows the link that says this, also on a page that is not the console's.
    pub async fn follow(&self, says: &str) {
        until(&format!("a link says {says}"), || async {
            let link = By::XPath(format!("//a[normalize-space()='{says}']"));
            self.page.find(link).await.ok()?.click().await.ok()
        })
        .await;
    }

    /// Types on the keyboard, wherever the focus is.
    pub async fn keys(&self, keys: impl Into<TypingData>) {
        let typed = self.page.action_chain().send_keys(keys).perform().await;
        typed.expect("the browser takes keys");
    }

    /// Presses a key while Control is held.
    pub async fn control(&self, key: impl Into<char>) {
        let key: char = key.into();
        let chain = self.page.action_chain().key_down(Key::Control);
        let chain = chain.key_down(key).key_up(key).key_up(Key::Control);
        chain.perform().await.expect("the browser takes keys");
    }

    /// Presses Tab until the focus is on what has this name: that of a field, or the words of a button or link.
    pub async fn tab_to(&self, name: &str) {
        let script = "const on = document.activeElement; \
             return on.getAttribute('name') ?? on.getAttribute('aria-label') ?? on.textContent.trim()";
        let mut passed = Vec::new();
        for _ in 0..150 {
            self.keys(Key::Tab + "").await;
            let on = self.page.execute(script, vec![]).await.expect("an element");
            let on: String = on.convert().expect("a name");
            if on == name {
                return;
            }
            passed.push(on);
        }
        panic!("Tab never leads to {name}, only to {passed:?}");
    }

    /// Waits until no dialog is open.
    pub async fn no_dialog(&self) {
        let begun = std::time::Instant::now();
        while let Ok(open) = self.page.find(By::Css(DIALOG)).await {
            if begun.elapsed() > PATIENCE {
                panic!("the dialog stays open: {:?}", open.text().await);
            }
            tokio::time::sleep(std::time::Duration::from_millis(25)).await;
        }
    }

    /// Types into a field.
    pub async fn fill(&self, css: &str, text: &str) {
        let field = self.find(css).await;
        field.clear().await.expect("the field can be cleared");
        field.send_keys(text).await.expect("the field takes text");
    }

    /// Closes the browser.
    pub async fn close(self) {
        let _ = self.page.clone().quit().await;
    }

    /// Ends the driver, and a browser that a failed test left open: the processes that name this browser's own profile.
    fn end(&mut self) {
        let _ = self.driver.kill();
        let _ = self.driver.wait();
        let profile = format!("--user-data-dir={}", self.profile.path().display());
        for entry in std::fs::read_dir("/proc").into_iter().flatten().flatten() {
            let line = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
            if line
                .split(|byte| *byte == 0)
                .any(|word| word == profile.as_bytes())
            {
                let pid = entry.file_name();
                let _ = Command::new("kill")
                    .arg("-KILL")
                    .arg(pid)
                    .stderr(Stdio::null())
                    .status();
            }
        }
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        self.end();
    }
}
