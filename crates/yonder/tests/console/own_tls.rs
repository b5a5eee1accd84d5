//! The console over the service's own TLS.

use std::fs;
use std::path::Path;
use std::time::Duration;

use super::PASSWORD;
use super::browser::Browser;
use super::support::{self, Service, World};

fn write_certificate(folder: &Path) -> String {
    let made = rcgen::generate_simple_self_signed(["localhost".to_owned(), "127.0.0.1".to_owned()]).unwrap();
    fs::write(folder.join("key.pem"), made.signing_key.serialize_pem()).unwrap();
    fs::write(folder.join("cert.pem"), made.cert.pem()).unwrap();
    made.cert.pem()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn certificate_is_replaced_while_a_preview_plays() {
    let browser = Browser::start(1280, 800).await;
    let folder = tempfile::tempdir().unwrap();
    write_certificate(folder.path());
    let (service, world) = (
        Service::start_with(|command| {
            for (option, file) in [("--tls-cert", "cert.pem"), ("--tls-key", "key.pem")] {
                command.arg(option).arg(folder.path().join(file));
            }
        }),
        tokio::task::spawn_blocking(World::start).await.unwrap(),
    );
    service.set_up_line(&world);
    service.must(&["relay", "start", "Line"], "");
    service.wait_live("Line");

    browser.set_up(&service, PASSWORD).await;
    let page = browser.client.current_url().await.unwrap();
    assert_eq!(page.scheme(), "https", "{page}");
    assert_eq!(browser.run("return window.isSecureContext").await, true);
    let mut relay = page.clone();
    relay.set_path("/relays/Line");
    browser.client.goto(relay.as_str()).await.unwrap();
    browser.see_the_picture_move().await;

    let second = write_certificate(folder.path());
    let deadline = tokio::time::Instant::now() + support::WAIT_TIMEOUT;
    let port = page.port().unwrap();
    while served_certificate(port) != second.trim() {
        assert!(tokio::time::Instant::now() < deadline, "the certificate is not replaced: {}", service.log());
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    // The preview continues in its connection.
    let before = browser.video_time().await;
    let deadline = tokio::time::Instant::now() + support::WAIT_TIMEOUT;
    while browser.video_time().await < before + 1.5 {
        assert!(tokio::time::Instant::now() < deadline, "the preview has stopped at {before}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    browser.see("//*[@role='status'][text()='Live.']").await;
    // A new connection has the new certificate, and the session continues.
    browser.client.goto(page.as_str()).await.unwrap();
    browser.see("//header").await;
    browser.close().await;
}

/// Returns the certificate that new connections get, in PEM.
fn served_certificate(port: u16) -> String {
    let mut openssl = std::process::Command::new("openssl");
    openssl.args(["s_client", "-servername", "localhost", "-connect", &format!("127.0.0.1:{port}")]);
    let said = openssl.stdin(std::process::Stdio::null()).output().unwrap();
    let said = support::text(&said.stdout);
    let begin = said.find("-----BEGIN CERTIFICATE-----").unwrap_or_default();
    let end =
        said.find("-----END CERTIFICATE-----").map_or(begin, |at| at + "-----END CERTIFICATE-----".len());
    said[begin..end].to_owned()
}
