//! Camera settings, and the comparison of adapted video with the feed, on the demonstration's data.

use std::time::Duration;

use serde_json::json;

use crate::browser::Browser;
use crate::pages::Demo;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn camera_settings_are_changed_and_adapted_video_is_compared() {
    let browser = Browser::start(1280, 800).await;
    let demo = Demo::start(&[]).await;
    demo.sign_in(&browser).await;
    check_camera_settings(&browser, &demo).await;
    check_comparison(&browser, &demo).await;
    browser.close().await;
}

async fn check_camera_settings(browser: &Browser, demo: &Demo) {
    browser.client.goto(&format!("{}/feeds/Signal%20Box", demo.url)).await.unwrap();
    browser.press("Camera settings").await;
    browser
        .see("//*[@role='dialog'][contains(., 'Bramble TV Signals')]//button[text()='Change the camera']")
        .await;
    browser.check_accessibility("camera settings").await;
    browser.picture("camera-settings").await;
    browser.press("Change the camera").await;
    browser.see("//section[@aria-label='Result'][contains(., 'applied')]").await;
    browser.see("//button[text()='Undo the last change']").await;
    browser.check_accessibility("changed camera settings").await;
}

async fn check_comparison(browser: &Browser, demo: &Demo) {
    browser.client.goto(&format!("{}/relays/Level%20Crossing", demo.url)).await.unwrap();
    browser
        .see("//section[@aria-label='Thistle Stage Crossing'][contains(., 'H.264 1280×720 · 6 fps')]")
        .await;
    browser.press("Compare").await;
    browser.see("//*[@role='dialog']//img[@alt='Adapted']").await;
    let is_drawn = "return [...document.querySelectorAll('[role=dialog] img')].every((image) => image.complete && image.naturalWidth > 0)";
    let until = tokio::time::Instant::now() + Duration::from_secs(20);
    while browser.run(is_drawn).await != json!(true) {
        assert!(tokio::time::Instant::now() < until, "the stills are not drawn");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    browser.check_accessibility("comparison").await;
    browser.picture("comparison").await;
}
