//! The settings in the console: an administrator sets everything there; others see their own part and the buttons that their role
//! permits.

use crate::support::{Browser, DIALOG, Service, until};
use pennine_core::access::Role;
use pennine_wire::{NewProject, NewSeat, NewTeam};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_administrator_adds_a_token_and_its_owner_sees_their_own_part_of_the_settings() {
    let service = Service::start().await;
    service.furnish().await;
    let (name, parent) = ("shore".into(), None);
    let shore = NewTeam { name, parent };
    service.client.add_team(&shore).await.unwrap();
    let (name, team) = ("soundings".into(), "shore".into());
    let soundings = NewProject { name, team };
    service.client.add_project(&soundings).await.unwrap();
    let browser = Browser::signed_in(&service).await;

    browser.open(&service, "/settings").await;
    browser
        .text_when("main h1", |text| text.contains("admin of all teams"))
        .await;
    browser.click("Add token").await;
    browser.find(DIALOG).await;
    browser.fill("input[name=name]", "mira").await;
    browser.choose("role", "operator").await;
    browser.choose("place", "firmware").await;
    browser.tab_to("lifetime").await;
    browser.control('a').await;
    browser.keys("30d\u{e007}").await;
    let secret = browser
        .text_when("[data-testid=secret]", |text| {
            text.starts_with("pen-token-")
        })
        .await;
    let made = service.client.tokens(None).await.unwrap().items;
    let made = made.iter().find(|token| token.name == "mira").unwrap();
    assert_eq!(
        (made.role, made.place.as_str()),
        (Role::Operator, "firmware")
    );
    browser.click("Done").await;
    browser.no_dialog().await;
    browser.click("Sign out").await;

    // Mira manages the firmware team's projects; shore does not exist for her, and what is set for all teams is only shown.
    browser.with_token(&secret).await;
    browser
        .text_when("main h1", |text| text.contains("operator of firmware"))
        .await;
    browser.open(&service, "/settings/teams").await;
    let text = browser
        .text_when("main", |text| text.contains("buoy"))
        .await;
    assert!(
        !text.contains("shore") && !text.contains("soundings"),
        "{text}"
    );
    browser.click("Change firmware/buoy").await;
    browser.find(DIALOG).await;
    browser.tab_to("weight").await;
    browser.control('a').await;
    browser.keys("5\u{e007}").await;
    browser.no_dialog().await;
    until("the weight is changed", async || {
        let projects = service.client.projects().await.ok()?.items;
        let buoy = projects.iter().find(|one| one.path == "firmware/buoy")?;
        (buoy.weight == 5).then_some(())
    })
    .await;
    for (section, wanted, hidden) in [
        ("tokens", "mira", "admin of all teams"),
        ("suppliers", "not visible with your role", "Add supplier"),
        ("alerts", "A supplier fails", "Change thresholds"),
        ("seats", "No seats yet", "Take back"),
    ] {
        browser
            .open(&service, &format!("/settings/{section}"))
            .await;
        let text = browser
            .text_when("main", |text| text.contains(wanted))
            .await;
        assert!(!text.contains(hidden), "{section}: {text}");
    }
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn seats_teams_thresholds_and_subscribers_are_set_in_the_console() {
    let service = Service::start().await;
    service.furnish().await;
    let seat = NewSeat {
        name: "compiler".into(),
        count: 3,
        description: String::new(),
    };
    service.client.add_seat(&seat).await.unwrap();
    let browser = Browser::signed_in(&service).await;

    browser.open(&service, "/settings/seats").await;
    browser.click("Change the seats compiler").await;
    browser.find(DIALOG).await;
    browser.tab_to("count").await;
    browser.control('a').await;
    browser.keys("4\u{e007}").await;
    browser.no_dialog().await;
    browser
        .text_when("main", |text| text.contains("0 of 4"))
        .await;

    browser.open(&service, "/settings/teams").await;
    browser.click("Add team").await;
    browser.find(DIALOG).await;
    browser.fill("input[name=name]", "shore\u{e007}").await;
    browser.no_dialog().await;
    browser
        .text_when("main", |text| text.contains("shore"))
        .await;
    browser.click("Remove the team shore").await;
    browser.click("Remove team").await;
    browser.no_dialog().await;
    browser
        .text_when("main", |text| !text.contains("shore"))
        .await;
    browser.click("Change firmware").await;
    browser.find(DIALOG).await;
    browser.fill("input[name=limit]", "6\u{e007}").await;
    browser.no_dialog().await;
    let limit_is = async |wanted: Option<u32>| {
        until("the limit is as set", async || {
            let teams = service.client.teams().await.ok()?.items;
            (teams.first()?.limit == wanted).then_some(())
        })
        .await;
    };
    limit_is(Some(6)).await;
    browser.text_when("main", |text| text.contains('6')).await;
    browser.click("Change firmware").await;
    browser.find(DIALOG).await;
    browser.tab_to("limit").await;
    browser.control('a').await;
    browser.keys("\u{e003}\u{e007}").await;
    browser.no_dialog().await;
    limit_is(None).await;

    browser.open(&service, "/settings/alerts").await;
    browser.find("input[name=idle]").await;
    browser.tab_to("idle").await;
    browser.control('a').await;
    browser.keys("3d\u{e007}").await;
    until("the threshold is as set", async || {
        let thresholds = service.client.thresholds().await.ok()?.thresholds;
        (thresholds.idle_us.0 == 259_200_000_000).then_some(())
    })
    .await;
    browser.click("Add subscriber").await;
    browser.find(DIALOG).await;
    browser.fill("input[name=name]", "pager").await;
    browser
        .fill("input[name=url]", "http://127.0.0.1:9/alerts\u{e007}")
        .await;
    browser
        .text_when("[data-testid=secret]", |text| text.starts_with("whsec_"))
        .await;
    browser.click("Done").await;
    browser.click("Pause the subscriber pager").await;
    until("the subscriber is paused", async || {
        let listeners = service.client.listeners().await.ok()?.items;
        listeners.first()?.paused.then_some(())
    })
    .await;
    browser
        .text_when("main", |text| text.contains("paused"))
        .await;
    browser.close().await;
}
