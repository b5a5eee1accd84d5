//! Permissions of the roles, in the console and in the service.

use serde_json::Value;

use crate::PASSWORD;
use crate::browser::Browser;
use crate::support::{Service, World};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn invited_viewer_can_read_but_not_change() {
    let browser = Browser::start(1280, 800).await;
    let (service, world) = tokio::task::spawn_blocking(|| (Service::start(), World::start())).await.unwrap();
    browser.set_up(&service, PASSWORD).await;
    service.set_up_line(&world);

    // An admin invites; the link is shown once.
    browser.client.goto(&format!("{}/settings/people", service.url())).await.unwrap();
    browser.fill("Name", "Signal box").await;
    browser.press("Create link").await;
    let link = browser.see("//output[@aria-label='Link']").await.text().await.unwrap();
    browser.see("//section[@aria-label='Invited'][contains(., 'Signal box')]").await;
    sign_out(&browser).await;

    browser.client.goto(&link).await.unwrap();
    browser.see("//h1[text()='Welcome, Signal box']").await;
    browser.fill("New password", "a lamp in the window").await;
    browser.press("Join and sign in").await;
    browser.see("//article[@aria-label='Line']").await;

    // Actions that would be refused are not offered …
    browser.gone("//a[text()='New relay']").await;
    browser.gone("//article[@aria-label='Line']//button[text()='Start']").await;
    for (page, seen, hidden) in [
        (
            "/relays/Line",
            "//section[@aria-label='Bramble']",
            "//button[text()='Roll the key' or text()='Start' or text()='Settings']",
        ),
        (
            "/destinations",
            "//section[@aria-label='Bramble']",
            "//button[text()='Reveal' or text()='Roll the key' or text()='Add a destination']",
        ),
        (
            "/feeds/Viaduct",
            "//section[@aria-label='Survey']",
            "//button[text()='Survey it' or text()='Change']",
        ),
        ("/platforms", "//section[@aria-label='Bramble TV']", "//button[text()='Change']"),
        ("/budget", "//section[@aria-label='What if']", "//button[text()='Add an uplink']"),
        (
            "/settings",
            "//section[@aria-label='Sessions']",
            "//*[@role='tab'][text()='People' or text()='Tokens']",
        ),
    ] {
        browser.client.goto(&format!("{}{page}", service.url())).await.unwrap();
        browser.see(seen).await;
        browser.gone(hidden).await;
    }
    // … and refused all the same.
    let refused = browser
        .run(
            "const session = await (await fetch('/api/v1/session')).json();
         const ask = async (method, path, body) => {
             const headers = { 'X-Yonder-Token': session.token, 'Content-Type': 'application/json' };
             const answer = await fetch(`/api/v1/${path}`, { method, headers, body: JSON.stringify(body) });
             return [answer.status, (await answer.json()).code];
         };
         return [
             session.role,
             await ask('POST', 'relays/Line/start', { force: true }),
             await ask('POST', 'destinations/Bramble/reveal', {}),
             await ask('PATCH', 'feeds/Viaduct', { url: 'rtsp://192.0.2.7/' }),
             await ask('POST', 'invitations', { name: 'Friend', role: 'admin' }),
         ];",
        )
        .await;
    let no = serde_json::json!([403, "request.role-needed"]);
    assert_eq!(refused, serde_json::json!(["viewer", no, no, no, no]));

    // A used link does not work, and an ended session is signed out.
    browser.client.goto(&link).await.unwrap();
    browser.client.refresh().await.unwrap();
    browser.see("//h1[text()='This link does not work']").await;
    let sessions: Value = serde_json::from_str(&service.must(&["session", "list", "--json"], "")).unwrap();
    let session = sessions.as_array().unwrap().iter().find(|each| each["person"] == "Signal box").unwrap();
    service.must(&["session", "end", session["id"].as_str().unwrap()], "");
    browser.client.goto(&service.url()).await.unwrap();
    browser.see("//h1[text()='Sign in']").await;
    browser.close().await;
    drop((service, world));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn sign_out_ends_access_until_the_correct_password() {
    let browser = Browser::start(1280, 800).await;
    let service = tokio::task::spawn_blocking(Service::start).await.unwrap();
    browser.set_up(&service, PASSWORD).await;
    sign_out(&browser).await;
    browser.fill("Name", "night desk").await;
    browser.fill("Password", "wrong").await;
    browser.press("Sign in").await;
    browser.see("//*[@role='alert'][contains(., 'request.sign-in-refused')]").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign in").await;
    browser.see("//h2[text()='No lines yet']").await;
    browser.close().await;
}

async fn sign_out(browser: &Browser) {
    browser.click("//header//button").await;
    browser.click("//*[@role='menuitem'][text()='Sign out']").await;
    browser.see("//h1[text()='Sign in']").await;
}
