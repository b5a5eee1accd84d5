//! The whole path of a relay, as somebody takes it who has never seen the console.

use std::time::Duration;

use fantoccini::Locator;
use yonder_sim::{Device, DeviceConfig, DeviceProfile};

use crate::PASSWORD;
use crate::browser::Browser;
use crate::support::{CAMERA_PASSWORD, KEY, SECOND_KEY, Service, World};

fn push(destination: &str, state: &str) -> String {
    format!("//section[@aria-label='{destination}'][.//span[text()='{state}']]")
}

/// A service, cameras and a platform, and a device service by which the cameras are found.
async fn start() -> (Service, World, Device) {
    let (service, world) = tokio::task::spawn_blocking(|| (Service::start(), World::start())).await.unwrap();
    let config = DeviceConfig {
        name: "Viaduct".to_owned(),
        profiles: world
            .streams()
            .iter()
            .map(|stream| DeviceProfile::of_stream(stream, &world.camera))
            .collect(),
        account: Some(("rail".to_owned(), CAMERA_PASSWORD.into())),
        has_media2: true,
        ..DeviceConfig::default()
    };
    let device = world.run(async { Device::start(config).await.unwrap() }).await;
    (service, world, device)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn onboarding_from_the_set_up_link_to_a_broadcast_and_its_end() {
    let browser = Browser::start(1280, 800).await;
    let (service, world, device) = start().await;

    // Set-up: a short password is refused, and the code leaves the address.
    browser.client.goto(&service.set_up_link()).await.unwrap();
    browser.fill("Name", "night desk").await;
    browser.fill("Password", "short").await;
    browser.press("Set up and sign in").await;
    browser.see("//*[@role='alert'][contains(., 'request.invalid')]").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Set up and sign in").await;
    browser.see("//h2[text()='No lines yet']").await;
    assert!(!browser.client.current_url().await.unwrap().as_str().contains('#'));

    reach_the_camera(&browser, &device).await;
    paste_the_platforms_details(&browser, &world).await;
    check_and_start(&browser).await;

    // On the air: the video plays, and every connection step is listed.
    browser.see("//h1[contains(., 'Viaduct')]").await;
    browser.see(&push("Night Trains", "live")).await;
    browser.see("//section[@aria-label='Night Trains']//li[contains(., 'key accepted')]").await;
    browser.see_the_picture_move().await;

    // The camera disappears: the broadcast is held, the fault domain is shown, and the video returns.
    let world = tokio::task::spawn_blocking(move || {
        world.camera_off();
        world
    })
    .await
    .unwrap();
    browser.see(&push("Night Trains", "holding")).await;
    let note = browser.see("//section[@aria-label='Camera']//div[strong][contains(., 'feed.')]").await;
    assert!(note.text().await.unwrap().starts_with("Camera side."));
    world.camera_on();
    browser.see(&push("Night Trains", "live")).await;
    browser.see("//section[@aria-label='Recent entries'][contains(., 'The holding picture was sent')]").await;

    // The key is rolled: that push alone reconnects, and the key is seen nowhere.
    world.platform.set_key("one", SECOND_KEY.into());
    world.platform.set_key("two", "another-key-altogether".into());
    browser.press("Roll key").await;
    browser.fill("New stream key", SECOND_KEY).await;
    browser.click("//*[@role='dialog']//button[@type='submit']").await;
    browser.see("//li[@role='status' or @data-state][contains(., 'has a new key')]").await;
    browser.see(&push("Night Trains", "live")).await;
    let page = browser.client.source().await.unwrap();
    assert!(!page.contains(SECOND_KEY) && !page.contains(KEY), "a key is on the page");

    // The stop is confirmed, and logged with its author.
    browser.press("Stop").await;
    let question = browser.see("//*[@role='alertdialog']").await.text().await.unwrap();
    assert!(question.contains("The broadcast on Night Trains ends"), "{question}");
    browser.press("Stop the broadcast").await;
    browser.see(&push("Night Trains", "off")).await;
    browser
        .see("//section[@aria-label='Recent entries'][contains(., 'stopped') and contains(., 'by night desk')]")
        .await;
    browser.close().await;
    drop((service, world, device));
}

async fn reach_the_camera(browser: &Browser, device: &Device) {
    browser.click("//a[text()='Set up a relay']").await;
    browser.click("//*[@role='tab'][text()='Search']").await;
    browser.fill("Hosts", &device.address().to_string()).await;
    browser.fill("User name", "rail").await;
    browser.fill("Password", CAMERA_PASSWORD).await;
    browser.press("Search these hosts").await;
    browser.click("//div[contains(., 'viaduct')]/div/button[text()='Add feed']").await;
    browser.replace("Name", "Viaduct").await;
    browser.replace("User name", "rail").await;
    browser.fill("Password", CAMERA_PASSWORD).await;
    browser.press("Save and continue").await;
    browser.press("Run survey").await;
    browser
        .see("//section[@aria-label='main stream'][contains(., 'H.264') and contains(., 'every 2.00 s')]")
        .await;
    browser.see("//section[@aria-label='Advice'][contains(., 'audio')]").await;
    browser.press("Continue to the destinations").await;
}

async fn paste_the_platforms_details(browser: &Browser, world: &World) {
    browser.fill("Name", "Night Trains").await;
    let server = format!("  {}/ ", world.platform.server());
    browser.fill("Server address", &server).await;
    browser.fill("Stream key", &format!(" {KEY}  ")).await;
    browser.press("Save destination").await;
    let stored =
        browser.see("//*[@role='status'][contains(., 'Night Trains was saved')]").await.text().await.unwrap();
    assert!(stored.contains("y-9Z") && !stored.contains(KEY), "{stored}");
    assert!(browser.client.find_all(Locator::XPath("//*[@role='status']//li")).await.unwrap().len() >= 2);
    // Nothing is lost on a reload, and nothing secret is stored in the browser.
    browser.client.refresh().await.unwrap();
    browser.see("//p[contains(., 'Goes to')][contains(., 'Night Trains')]").await;
    let stored = browser.run("return JSON.stringify({ ...localStorage, ...sessionStorage })").await;
    assert!(!stored.to_string().contains("planted"), "{stored}");
    browser.press("Continue to the checks").await;
}

async fn check_and_start(browser: &Browser) {
    browser.replace("Name of the relay", "Viaduct").await;
    browser.press("Save and check").await;
    browser.press("Run the preflight").await;
    let checks = browser.see("//ul[@aria-label='Checks'][contains(., 'warn')]").await.text().await.unwrap();
    assert!(checks.starts_with("warn"), "the worst comes first: {checks}");
    tokio::time::sleep(Duration::from_millis(50)).await;
    browser.press("Start Viaduct").await;
}
