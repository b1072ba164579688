//! Watch folders through the API, with real files, engines and database.

use std::path::Path;
use std::time::Duration;

use beryl_core::preset::builtin;
use beryl_ui_tests::{Application, Outcome, make_clips, names_in};
use reqwest::Method;
use serde_json::{Value, json};

/// A watch folder on `in`, whose outputs go to `destination` of the same storage.
async fn watch(application: &Application, root: &Path, presets: &[&str], destination: &str) -> Outcome<String> {
    let storage = application.add_storage("House", root).await?;
    watch_in(application, &storage, presets, destination).await
}

async fn watch_in(application: &Application, storage: &str, presets: &[&str], destination: &str) -> Outcome<String> {
    let presets: Vec<_> = presets.iter().map(|id| builtin(id)).collect();
    let body = json!({
        "name": "Dailies", "storage": storage, "folder": "in", "presets": presets,
        "destination_storage": storage, "destination": destination, "settle_seconds": 1,
    });
    let made = application.call(Method::POST, "/api/watch", Some(body)).await?;
    Ok(made["id"].as_str().ok_or("no id")?.to_owned())
}

async fn switch(application: &Application, id: &str, body: Value) -> Outcome<Value> {
    application.call(Method::POST, &format!("/api/watch/{id}/on"), Some(body)).await
}

/// Names and reasons of files in one state, as the list of them tells.
fn told(list: &Value) -> Vec<(String, String)> {
    let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
    let list = list.as_array().into_iter().flatten();
    let mut files: Vec<_> = list.map(|file| (text(&file["name"]), text(&file["reason"]))).collect();
    files.sort();
    files
}

/// The files in one state, by name, with their reasons, once they are as wanted.
async fn files_once(
    application: &Application,
    id: &str,
    state: &str,
    wanted: impl Fn(&[(String, String)]) -> bool,
) -> Outcome<Vec<(String, String)>> {
    let path = format!("/api/watch/{id}/files?state={state}");
    Ok(told(&application.wait_for(&path, |list| wanted(&told(list))).await?))
}

async fn files(application: &Application, id: &str, state: &str) -> Outcome<Vec<(String, String)>> {
    files_once(application, id, state, |_| true).await
}

async fn wait_for(application: &Application, id: &str, state: &str, names: &[&str]) -> Outcome<Vec<(String, String)>> {
    files_once(application, id, state, |now| now.iter().map(|(name, _)| name.as_str()).eq(names.iter().copied())).await
}

#[tokio::test(flavor = "multi_thread")]
async fn files_flow_from_arriving_to_out_once_and_outputs_never_come_back() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    let arriving = root.join("in");
    std::fs::create_dir_all(&arriving)?;
    let stock = application.folder("stock")?;
    make_clips(&stock, &["glaze-db_screen.mp4", "clip-0001.mov"], 1)?;
    let screen = std::fs::read(stock.join("glaze-db_screen.mp4"))?;
    std::fs::write(arriving.join("old.mp4"), &screen)?;

    // With a file inside, switching on asks first.
    let id = watch(&application, &root, &["review-small", "sound-only"], "in/made").await?;
    let inside = application.call(Method::GET, &format!("/api/watch/{id}/inside"), None).await?;
    assert_eq!((inside["files"].as_u64(), inside["bytes"].as_u64()), (Some(1), Some(screen.len() as u64)));
    let refused = switch(&application, &id, json!({})).await.err().ok_or("it did not ask")?.to_string();
    assert!(refused.contains("one file is in it already"), "{refused}");
    switch(&application, &id, json!({ "present": "leave" })).await?;
    assert_eq!(wait_for(&application, &id, "left", &["old.mp4"]).await?.len(), 1);

    // A copy in pieces is waited for; a whole card with folders in it is gone through.
    let (first, second) = screen.split_at(screen.len() / 2);
    std::fs::write(arriving.join("copied.mp4"), first)?;
    wait_for(&application, &id, "arriving", &["copied.mp4"]).await?;
    for piece in second.chunks(second.len() / 4 + 1) {
        use std::io::Write;
        std::fs::OpenOptions::new().append(true).open(arriving.join("copied.mp4"))?.write_all(piece)?;
        tokio::time::sleep(Duration::from_millis(500)).await;
        assert_eq!(files(&application, &id, "working").await?, []);
    }
    let card = stock.join("card-C014");
    std::fs::create_dir_all(arriving.join("card"))?;
    copy_all(&card, &arriving.join("card"))?;
    let out = wait_for_out(&application, &id, 2).await?;
    assert!(out.iter().all(|(_, reason)| reason.starts_with("Its outputs are made.")), "{out:?}");
    let nested = out.iter().find(|(name, _)| name.starts_with("card/")).ok_or("the card was not taken")?;
    let made = root.join("in/made").join(Path::new(&nested.0).parent().ok_or("no folder")?);
    assert_eq!(names_in(&made)?.len(), 2, "outputs of a nested file lie in the same folders: {:?}", names_in(&made)?);

    // What was made lies in the watched tree and is no source.
    let runs = application.call(Method::GET, "/api/queue", None).await?["items"].as_array().map_or(0, Vec::len);
    assert_eq!(runs, 4);

    // A restart makes nothing twice and forgets nothing.
    let application = application.restart().await?;
    std::fs::write(arriving.join("third.mp4"), &screen)?;
    let out = wait_for_out(&application, &id, 3).await?;
    assert!(out.iter().any(|(name, _)| name == "third.mp4"));
    wait_for(&application, &id, "left", &["old.mp4"]).await?;
    let runs = application.call(Method::GET, "/api/queue", None).await?["items"].as_array().map_or(0, Vec::len);
    assert_eq!(runs, 6);

    // What was left can still be taken up by hand.
    let take = json!({ "paths": ["in/old.mp4"] });
    application.call(Method::POST, &format!("/api/watch/{id}/files"), Some(take)).await?;
    wait_for_out(&application, &id, 4).await?;
    Ok(())
}

async fn wait_for_out(application: &Application, id: &str, count: usize) -> Outcome<Vec<(String, String)>> {
    let out = files_once(application, id, "out", |now| now.len() >= count).await?;
    assert_eq!(out.len(), count, "{out:?}");
    Ok(out)
}

fn copy_all(from: &Path, to: &Path) -> Outcome<()> {
    std::fs::create_dir_all(to)?;
    for entry in std::fs::read_dir(from)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            copy_all(&entry.path(), &to.join(entry.file_name()))?;
        } else {
            std::fs::copy(entry.path(), to.join(entry.file_name()))?;
        }
    }
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn outputs_beside_their_sources_are_known_as_own_and_broken_files_say_why() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    let arriving = root.join("in");
    std::fs::create_dir_all(&arriving)?;
    make_clips(&root, &["glaze-db_screen.mp4"], 1)?;
    // The destination is the watched folder itself.
    let storage = application.add_storage("House", &root).await?;
    let id = watch_in(&application, &storage, &["review-small"], "in").await?;
    switch(&application, &id, json!({})).await?;
    std::fs::rename(root.join("glaze-db_screen.mp4"), arriving.join("screen.mp4"))?;
    std::fs::write(arriving.join("notes.mov"), "not a film at all")?;
    std::fs::write(arriving.join("gone.mov"), "removed before it settles")?;
    wait_for_one(&application, &id, "arriving", "gone.mov").await?;
    std::fs::remove_file(arriving.join("gone.mov"))?;
    let own = wait_for(&application, &id, "own", &["screen_review-small.mp4"]).await?;
    assert!(own[0].1.contains("never taken as sources"), "{own:?}");
    wait_for(&application, &id, "out", &["screen.mp4"]).await?;
    wait_for(&application, &id, "gone", &["gone.mov"]).await?;
    // Its headers might still have come; they did not.
    let failed = wait_for(&application, &id, "failed", &["notes.mov"]).await?;
    assert!(failed[0].1.starts_with("It is not a media file"), "{failed:?}");
    // Off, nothing more is taken up, while another watch folder takes it.
    application.call(Method::POST, &format!("/api/watch/{id}/off"), None).await?;
    let other = watch_in(&application, &storage, &["sound-only"], "sounds").await?;
    switch(&application, &other, json!({ "present": "leave" })).await?;
    std::fs::copy(arriving.join("screen.mp4"), arriving.join("late.mp4"))?;
    wait_for(&application, &other, "out", &["late.mp4"]).await?;
    assert_eq!(files(&application, &id, "out").await?.len(), 1);
    let inside = application.call(Method::GET, &format!("/api/watch/{id}/inside"), None).await?;
    assert_eq!(inside["files"], 1);
    Ok(())
}

async fn wait_for_one(application: &Application, id: &str, state: &str, wanted: &str) -> Outcome<()> {
    files_once(application, id, state, |now| now.iter().any(|(name, _)| name == wanted)).await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn outputs_are_known_for_what_they_are_on_whatever_way_they_come_back() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    let arriving = root.join("in");
    std::fs::create_dir_all(&arriving)?;
    std::fs::create_dir_all(root.join("made"))?;
    // The destination lies elsewhere, and a link leads from the watched folder into it.
    std::os::unix::fs::symlink("../made", arriving.join("finished"))?;
    let id = watch(&application, &root, &["review-small"], "made").await?;
    switch(&application, &id, json!({})).await?;
    make_clips(&arriving, &["glaze-db_screen.mp4"], 1)?;
    let out = wait_for_out(&application, &id, 1).await?;
    assert_eq!(out.len(), 1);
    let own = |count: usize| files_once_counted(&application, &id, "own", count);
    own(1).await?;

    // Under another name, and in a folder of its own: the same file.
    let made = names_in(&root.join("made"))?;
    std::fs::create_dir_all(arriving.join("again"))?;
    std::fs::hard_link(root.join("made").join(&made[0]), arriving.join("again/other-name.mp4"))?;
    own(2).await?;
    let runs = application.call(Method::GET, "/api/queue", None).await?["items"].as_array().map_or(0, Vec::len);
    assert_eq!(runs, 1, "nothing was made of what was made");
    Ok(())
}

async fn files_once_counted(application: &Application, id: &str, state: &str, count: usize) -> Outcome<()> {
    files_once(application, id, state, |now| now.len() == count).await.map(drop)
}
