//! Three people of three teams open their links, set passwords, and the console shows each what the roles permit.

use crate::support::{Browser, Service, until};
use pennine_core::access::Role;
use pennine_wire::{NewPerson, NewProject, NewTeam};

const PASSWORD: &str = "slack water at noon";

/// Opens the link of a new person, and sets a password.
async fn welcome(service: &Service, browser: &Browser, name: &str, role: Role, place: &str) {
    let new = NewPerson {
        name: name.into(),
        full_name: format!("{name} Brekke"),
        role,
        place: place.into(),
    };
    let made = service.client.add_person(&new).await.unwrap();
    let (_, secret) = made.link.split_once('#').unwrap();
    browser.open(service, &format!("/welcome#{secret}")).await;
    let greeting = format!("{name} Brekke");
    browser
        .text_when("main h1", |text| text.contains(&greeting))
        .await;
    browser.fill("input[name=password]", PASSWORD).await;
    browser
        .fill("input[name=again]", &format!("{PASSWORD}\u{e007}"))
        .await;
    browser.find("[data-testid=answer]").await;
}

/// The buttons and links of a page, once it shows a text.
async fn buttons(service: &Service, browser: &Browser, path: &str, shown: &str) -> Vec<String> {
    browser.open(service, path).await;
    browser.text_when("main", |text| text.contains(shown)).await;
    let script =
        "return [...document.querySelectorAll('main button')].map(one => one.textContent.trim())";
    let found = browser.page.execute(script, vec![]).await.unwrap();
    found.convert().unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn three_people_sign_in_with_links_and_see_what_they_may_and_no_more() {
    let service = Service::start().await;
    service.furnish().await;
    for team in ["shore", "chartroom"] {
        let (name, parent) = (team.to_owned(), None);
        let new = NewTeam { name, parent };
        service.client.add_team(&new).await.unwrap();
        let (name, team) = (format!("{team}-app"), team.to_owned());
        let new = NewProject { name, team };
        service.client.add_project(&new).await.unwrap();
    }
    let browser = Browser::start().await;
    for (name, role, team, may_submit, may_add_pool) in [
        ("mira", Role::Submitter, "firmware", true, false),
        ("ola", Role::Operator, "shore", true, true),
        ("teo", Role::Viewer, "chartroom", false, false),
    ] {
        welcome(&service, &browser, name, role, team).await;
        let runs = buttons(&service, &browser, "/runs", "Runs, newest first").await;
        let has = |buttons: &[String], word: &str| buttons.iter().any(|one| one == word);
        assert_eq!(has(&runs, "Submit a job"), may_submit, "{name}: {runs:?}");
        let yard = buttons(&service, &browser, "/yard", "pool").await;
        assert_eq!(has(&yard, "Add a pool"), may_add_pool, "{name}: {yard:?}");
        let settings = buttons(&service, &browser, "/settings/teams", team).await;
        assert!(!has(&settings, "Change team"), "{name}: {settings:?}");
        let text = browser.text_when("main", |text| text.contains(team)).await;
        for other in ["firmware", "shore", "chartroom"] {
            assert_eq!(
                text.contains(other),
                other == team,
                "{name} sees {other}: {text}"
            );
        }
        let people = buttons(&service, &browser, "/settings/people", name).await;
        assert!(!has(&people, "Add person"), "{name}: {people:?}");
        browser.click("Sign out").await;
        // The password signs in again.
        browser.fill("input[name=name]", name).await;
        browser
            .fill("input[name=password]", &format!("{PASSWORD}\u{e007}"))
            .await;
        let greeting = format!("signed in as {name} Brekke");
        browser
            .text_when("header", |text| text.contains(&greeting))
            .await;
        browser.click("Sign out").await;
        browser.find("input[name=password]").await;
    }
    browser.close().await;
    until("each has signed in", async || {
        let people = service.client.people().await.ok()?.items;
        let signed_in = people.iter().filter(|one| one.signed_in_at.is_some());
        (signed_in.count() == 3).then_some(())
    })
    .await;
}
