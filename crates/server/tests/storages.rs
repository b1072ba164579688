//! Storages as houses have them: links in circles, pipes, folders of the system, and two servers on one database.

use std::os::unix::fs::symlink;
use std::path::Path;

use beryl_core::preset::builtin;
use beryl_ui_tests::{Application, Outcome, make_clips, names_in};
use nix::sys::stat::Mode;
use reqwest::{Method, StatusCode, header};
use serde_json::{Value, json};

async fn sheet(application: &Application) -> Outcome<String> {
    let made = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Sheet" }))).await?;
    Ok(format!("/api/sheets/{}", made["id"].as_str().ok_or("no id")?))
}

/// Folder and name of each source.
fn names(sheet: &Value) -> Vec<(&str, &str)> {
    let sources = sheet["sources"].as_array().into_iter().flatten();
    sources.filter_map(|source| Some((source["folder"].as_str()?, source["name"].as_str()?))).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn each_file_is_found_once_and_a_pipe_holds_nobody_up() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    std::fs::create_dir_all(root.join("shoot/day/one"))?;
    make_clips(&root.join("shoot/day/one"), &["glaze-db_screen.mp4"], 1)?;
    // A circle, a second way to the same folder that comes first by name, and a way out of the storage.
    symlink("../..", root.join("shoot/day/back"))?;
    symlink("shoot/day", root.join("a-link"))?;
    symlink("/etc", root.join("outside"))?;
    nix::unistd::mkfifo(&root.join("shoot/pipe.mp4"), Mode::S_IRWXU)?;

    let storage = application.add_storage("House", &root).await?;
    let path = sheet(&application).await?;
    let body = json!({ "storage": storage, "paths": [""] });
    let added = application.call(Method::POST, &format!("{path}/sources"), Some(body)).await?;
    assert_eq!(added["found"], 1, "{added}");
    let found = application.call(Method::GET, &path, None).await?;
    assert_eq!(names(&found), [("shoot/day/one", "glaze-db_screen.mp4")]);
    // What is in a folder that is added itself stands below the folder's name.
    let other = sheet(&application).await?;
    let body = json!({ "storage": storage, "paths": ["shoot/day"] });
    application.call(Method::POST, &format!("{other}/sources"), Some(body)).await?;
    assert_eq!(names(&application.call(Method::GET, &other, None).await?), [("day/one", "glaze-db_screen.mp4")]);

    // Chosen by itself the pipe is refused by whoever opens it, and nobody waits for its other end.
    let body = json!({ "storage": storage, "paths": ["shoot/pipe.mp4"] });
    application.call(Method::POST, &format!("{path}/sources"), Some(body)).await?;
    let is_read = |sheet: &Value| sheet["sources"].as_array().is_some_and(|all| all.iter().any(|one| one["problem"].is_object()));
    let read = application.wait_for(&path, is_read).await?;
    let pipe = read["sources"].as_array().and_then(|all| all.iter().find(|one| one["name"] == "pipe.mp4")).ok_or("gone")?;
    assert_eq!(pipe["problem"]["why"], "it is a device or a pipe, not a file");
    let media = format!("{}/api/sources/{}/media", application.address(), pipe["id"].as_str().ok_or("no id")?);
    assert_eq!(reqwest::get(media).await?.status(), StatusCode::UNPROCESSABLE_ENTITY);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn folders_of_the_system_are_no_storages_and_a_storage_in_use_is_retired() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    let own = application.folder("cache")?;
    for folder in
        [Path::new("/"), Path::new("/proc"), Path::new("/proc/self"), Path::new("/dev"), &own, own.parent().ok_or("none")?]
    {
        let refused = application.add_storage("Wrong", folder).await.err().ok_or("it was taken")?.to_string();
        assert!(refused.contains("not for media"), "{refused}");
    }

    let storage = application.add_storage("House", &root).await?;
    std::fs::create_dir(root.join("inner"))?;
    application.add_storage("Inner", &root.join("inner")).await?;
    let all = application.call(Method::GET, "/api/storages", None).await?;
    let overlaps: Vec<&Value> = all.as_array().into_iter().flatten().map(|one| &one["overlaps"]).collect();
    assert_eq!(overlaps, ["Inner", "House"]);

    make_clips(&root, &["glaze-db_screen.mp4"], 1)?;
    let path = sheet(&application).await?;
    let body = json!({ "storage": storage, "paths": [""] });
    application.call(Method::POST, &format!("{path}/sources"), Some(body)).await?;
    let in_use = application.call(Method::DELETE, &format!("/api/storages/{storage}"), None).await;
    assert!(in_use.is_err());
    let retire = json!({ "is_retired": true });
    application.call(Method::PUT, &format!("/api/storages/{storage}/retirement"), Some(retire)).await?;
    let all = application.call(Method::GET, "/api/storages", None).await?;
    assert_eq!(all[0]["is_retired"], true, "{all}");
    assert_eq!(names(&application.call(Method::GET, &path, None).await?).len(), 1, "what is there stays");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn files_of_other_people_are_given_as_they_are_and_act_as_nothing() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    make_clips(&root, &["glaze-db_screen.mp4"], 1)?;
    std::fs::write(root.join("page.html"), "<script>alert(1)</script>")?;
    let storage = application.add_storage("House", &root).await?;
    let path = sheet(&application).await?;
    let body = json!({ "storage": storage, "paths": ["glaze-db_screen.mp4", "page.html"] });
    application.call(Method::POST, &format!("{path}/sources"), Some(body)).await?;
    let found = application.call(Method::GET, &path, None).await?;
    let address = |name: &str| {
        let source = found["sources"].as_array()?.iter().find(|one| one["name"] == name)?["id"].as_str()?;
        Some(format!("{}/api/sources/{source}/media", application.address()))
    };
    let client = reqwest::Client::new();
    let get = |name: &str| client.get(address(name).expect("it is there")).header(header::ACCEPT_ENCODING, "gzip");
    let text = |answer: &reqwest::Response, name: header::HeaderName| {
        answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned()
    };

    let page = get("page.html").send().await?;
    assert_eq!(text(&page, header::CONTENT_TYPE), "application/octet-stream");
    assert_eq!(text(&page, header::CONTENT_DISPOSITION), "attachment; filename*=UTF-8''page%2Ehtml");
    assert!(text(&page, header::CONTENT_SECURITY_POLICY).starts_with("sandbox"));

    let film = std::fs::read(root.join("glaze-db_screen.mp4"))?;
    let whole = get("glaze-db_screen.mp4").send().await?;
    assert_eq!(text(&whole, header::CONTENT_TYPE), "video/mp4");
    assert_eq!(text(&whole, header::CONTENT_ENCODING), "", "media is never compressed");
    let version = text(&whole, header::ETAG);
    assert_eq!(whole.bytes().await?, film);
    let known = get("glaze-db_screen.mp4").header(header::IF_NONE_MATCH, &version).send().await?;
    assert_eq!(known.status(), StatusCode::NOT_MODIFIED);

    let part = || get("glaze-db_screen.mp4").header(header::RANGE, "bytes=10-19");
    let same = part().header(header::IF_RANGE, &version).send().await?;
    assert_eq!((same.status(), same.bytes().await?.as_ref()), (StatusCode::PARTIAL_CONTENT, &film[10..20]));
    // Written anew, it is another file: a part of it does not go on where the old one ended.
    let mut other = film.clone();
    other.extend(b"more");
    std::fs::write(root.join("glaze-db_screen.mp4"), &other)?;
    let whole = part().header(header::IF_RANGE, &version).send().await?;
    assert_eq!((whole.status(), whole.bytes().await?.as_ref()), (StatusCode::OK, other.as_slice()));
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_server_on_the_database_takes_nothing_from_the_first() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &["glaze-db_screen.mp4", "clip-0001.mov"], 4)?;
    let source = application.add_storage("Media", &media).await?;
    let destination = application.add_storage("Out", &application.folder("out")?).await?;
    let path = sheet(&application).await?;
    let body = json!({ "storage": source, "paths": [""] });
    application.call(Method::POST, &format!("{path}/sources"), Some(body)).await?;
    for preset in ["review-small", "web-720", "light-proxy"] {
        let body = json!({ "preset": builtin(preset), "storage": destination, "folder": "" });
        application.call(Method::POST, &format!("{path}/deliverables"), Some(body)).await?;
    }
    let cells = |sheet: &Value| sheet["cells"].as_array().cloned().unwrap_or_default();
    application.wait_for(&path, |sheet| cells(sheet).iter().all(|cell| cell["forecast"].is_u64())).await?;
    application.call(Method::POST, &format!("{path}/run"), Some(json!({}))).await?;
    let is_running = |cell: &Value| cell["run"]["state"] == "running";
    application.wait_for(&path, |sheet| cells(sheet).iter().any(is_running)).await?;

    // It starts into the middle of the first one's work, and shares what is left.
    let second = application.second_server().await?;
    let all_done = |sheet: &Value| cells(sheet).iter().all(|cell| cell["run"]["state"] == "done");
    let done = cells(&application.wait_for(&path, all_done).await?);
    second.stop().await;
    let attempts: Vec<&Value> = done.iter().map(|cell| &cell["run"]["attempts"]).collect();
    assert_eq!(attempts, vec![1; done.len()], "each run was begun once");
    let made = names_in(&application.folder("out")?)?.len();
    assert_eq!(made, done.len(), "and each made one file, with nothing left beside them");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_mount_point_is_not_taken_for_the_storage() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("volume")?;
    let storage = application.add_storage("Volume", &root).await?;
    make_clips(&root, &["glaze-db_screen.mp4"], 1)?;
    let entries = format!("/api/storages/{storage}/entries?path=");
    let lacks = async || -> Outcome<bool> {
        let all = application.call(Method::GET, "/api/storages", None).await?;
        Ok(all[0]["lacks_marker"] == true && all[0]["free"].is_null())
    };
    let listed = application.call(Method::GET, &entries, None).await?;
    assert_eq!(listed.as_array().map(Vec::len), Some(1), "the marker is not shown: {listed}");
    assert!(!lacks().await?);

    // The volume goes, and leaves the folder in which it was mounted.
    let away = root.with_file_name("away");
    std::fs::rename(&root, &away)?;
    std::fs::create_dir(&root)?;
    let refused = application.call(Method::GET, &entries, None).await.err().ok_or("it was listed")?.to_string();
    assert!(refused.contains("not mounted there"), "{refused}");
    assert!(lacks().await?);
    // A run waits for the volume, and writes nothing into the folder in its place.
    let path = sheet(&application).await?;
    std::fs::remove_dir(&root)?;
    std::fs::rename(&away, &root)?;
    application.call(Method::POST, &format!("{path}/sources"), Some(json!({ "storage": storage, "paths": [""] }))).await?;
    let preset = serde_json::to_value(builtin("web-1080").ok_or("no preset")?)?;
    application.call(Method::POST, &format!("{path}/deliverables"), Some(json!({ "preset": preset }))).await?;
    application.wait_for(&path, |sheet| sheet["cells"][0]["forecast"].is_number()).await?;
    std::fs::rename(&root, &away)?;
    std::fs::create_dir(&root)?;
    application.call(Method::POST, &format!("{path}/run"), Some(json!({}))).await?;
    application.wait_for(&path, |sheet| sheet["cells"][0]["run"]["problem"]["kind"] == "unreachable").await?;
    assert_eq!(std::fs::read_dir(&root)?.count(), 0, "nothing is written there");

    // Another volume that a person calls the right one is the storage from then on.
    application.call(Method::POST, &format!("/api/storages/{storage}/marker"), None).await?;
    assert!(!lacks().await?);
    let listed = application.call(Method::GET, &entries, None).await?;
    assert_eq!(listed.as_array().map(Vec::len), Some(0), "{listed}");
    Ok(())
}
