//! The API from outside: who may ask, what can be reached, and how files come and go.

use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use beryl_core::preset::builtin;
use beryl_core::protocol::{FileRef, SourceRef};
use beryl_ui_tests::{Application, Outcome, make_clips, names_in};
use beryl_worker::Engine;
use reqwest::{Client, Method, StatusCode};
use serde_json::{Value, json};

fn text(value: &Value) -> String {
    value.as_str().unwrap_or_default().to_owned()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_page_is_sent_small() -> Outcome<()> {
    let application = Application::start().await?;
    let client = Client::new();
    let get = async |path: &str, accepted: &str| {
        client.get(format!("{}{path}", application.address())).header("accept-encoding", accepted).send().await
    };
    let page = get("/", "br").await?.text().await?;
    let assets: Vec<&str> = page.split('"').filter(|part| part.starts_with("/assets/")).collect();
    assert!(assets.len() > 2, "{page}");
    let mut bytes = page.len();
    for asset in assets {
        let small = get(asset, "gzip, br;q=0.9").await?;
        assert_eq!(small.headers()["content-encoding"], "br", "{asset}");
        let plain = get(asset, "identity").await?;
        assert!(!plain.headers().contains_key("content-encoding"), "{asset}");
        let (small, plain) = (small.bytes().await?.len(), plain.bytes().await?.len());
        assert!(small < plain, "{asset}: {small} of {plain} bytes");
        bytes += small;
        let refused = get(asset, "br;q=0").await?.headers().get("content-encoding").cloned();
        assert!(refused.is_none_or(|encoding| encoding != "br"), "{asset}");
    }
    // With 40 kB for the letters of the page.
    assert!(bytes + 40_000 < 250_000, "{bytes} bytes are sent before anything is seen");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn strangers_are_refused_and_nothing_outside_a_storage_is_reached() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    let secret = application.folder("elsewhere")?.join("secret.mov");
    std::fs::write(&secret, "not for you")?;
    std::fs::create_dir(root.join("in"))?;
    std::os::unix::fs::symlink(secret.parent().ok_or("no folder")?, root.join("in/link"))?;
    std::os::unix::fs::symlink(&secret, root.join("in/secret.mov"))?;
    let storage = application.add_storage("House", &root).await?;
    let address = application.address();
    let client = Client::new();

    // Foreign names and origins, as a page elsewhere would send them.
    for (name, value) in
        [("host", "beryl.example"), ("host", "127.0.0.1.example:8470"), ("origin", "http://example.org"), ("origin", "null")]
    {
        let answer = client.get(format!("{address}/api/sheets")).header(name, value).send().await?;
        assert_eq!(answer.status(), StatusCode::FORBIDDEN, "{name}: {value}");
    }
    let own = client.get(format!("{address}/api/sheets")).header("origin", address).send().await?;
    assert_eq!(own.status(), StatusCode::OK);
    let policy =
        own.headers().get("content-security-policy").and_then(|policy| policy.to_str().ok()).unwrap_or_default().to_owned();
    assert!(policy.contains("default-src 'self'") && !policy.contains("http"), "{policy}");

    // Paths that would leave the storage: refused, and links that lead out are not offered.
    for path in ["..", "../elsewhere", "in/../../elsewhere", "/etc", "in//x", "in/%2e%2e/%2e%2e"] {
        let answer = client.get(format!("{address}/api/storages/{storage}/entries?path={path}")).send().await?;
        assert!(answer.status().is_client_error(), "{path}: {}", answer.status());
        let sheet = application.call(Method::POST, "/api/sheets", Some(json!({ "name": "X" }))).await?;
        let body = json!({ "storage": storage, "paths": [path] });
        let added = client.post(format!("{address}/api/sheets/{}/sources", text(&sheet["id"]))).json(&body).send().await?;
        assert!(added.status().is_client_error(), "{path}: {}", added.status());
    }
    let entries = application.call(Method::GET, &format!("/api/storages/{storage}/entries?path=in"), None).await?;
    assert_eq!(entries, json!([]));

    // Bodies are bounded, and nonsense is told from failure.
    let huge = vec![b'x'; 6 << 20];
    let answer =
        client.post(format!("{address}/api/sheets")).header("content-type", "application/json").body(huge).send().await?;
    assert_eq!(answer.status(), StatusCode::PAYLOAD_TOO_LARGE);
    let answer = client.post(format!("{address}/api/sheets")).json(&json!({ "nome": 1 })).send().await?;
    assert!(answer.status().is_client_error());
    let answer = client.get(format!("{address}/api/nothing")).send().await?;
    assert_eq!(answer.status(), StatusCode::NOT_FOUND);
    let answer = client.get(format!("{address}/api/sheets/{}", uuid::Uuid::now_v7())).send().await?;
    assert_eq!(answer.status(), StatusCode::NOT_FOUND);
    let problem: Value = answer.json().await?;
    assert!(problem["next"].is_string() && problem["why"].is_string(), "{problem}");
    Ok(())
}

/// A tus client's headers for a new file.
fn announce(client: &Client, address: &str, storage: &str, path: &str, length: usize) -> reqwest::RequestBuilder {
    let metadata = format!("storage {},path {}", BASE64.encode(storage), BASE64.encode(path));
    client
        .post(format!("{address}/api/uploads"))
        .header("tus-resumable", "1.0.0")
        .header("upload-length", length)
        .header("upload-metadata", metadata)
}

fn piece(client: &Client, url: &str, offset: usize, bytes: &[u8]) -> reqwest::RequestBuilder {
    client
        .patch(url)
        .header("tus-resumable", "1.0.0")
        .header("upload-offset", offset)
        .header("content-type", "application/offset+octet-stream")
        .body(bytes.to_vec())
}

fn offset(answer: &reqwest::Response) -> Option<usize> {
    answer.headers().get("upload-offset")?.to_str().ok()?.parse().ok()
}

#[tokio::test(flavor = "multi_thread")]
async fn files_come_in_pieces_that_can_be_resumed_and_never_replace_others() -> Outcome<()> {
    let application = Application::start().await?;
    let root = application.folder("house")?;
    let storage = application.add_storage("House", &root).await?;
    let client = Client::new();
    let whole: Vec<u8> = (0..100_000_u32).flat_map(u32::to_le_bytes).collect();
    std::fs::create_dir(root.join("card"))?;
    std::fs::write(root.join("card/Clip 50%.MOV"), "was here before")?;

    let created = announce(&client, application.address(), &storage, "card/Clip 50%.MOV", whole.len()).send().await?;
    assert_eq!(created.status(), StatusCode::CREATED);
    let place = created.headers().get("location").and_then(|place| place.to_str().ok()).ok_or("no location")?.to_owned();
    let url = format!("{}{place}", application.address());
    let answer = piece(&client, &url, 0, &whole[..150_000]).send().await?;
    assert_eq!((answer.status(), offset(&answer)), (StatusCode::NO_CONTENT, Some(150_000)));
    // A piece that does not follow, and one that is too long.
    let answer = piece(&client, &url, 10, &whole[10..20]).send().await?;
    assert_eq!((answer.status(), offset(&answer)), (StatusCode::CONFLICT, Some(150_000)));

    // The server ends and starts again: the upload goes on where it was.
    let application = application.restart().await?;
    let url = format!("{}{place}", application.address());
    let answer = client.head(&url).send().await?;
    assert_eq!(offset(&answer), Some(150_000));
    let shown: Vec<_> =
        std::fs::read_dir(root.join("card"))?.filter_map(|entry| entry.ok()?.file_name().into_string().ok()).collect();
    assert_eq!(shown.iter().filter(|name| !name.starts_with('.')).count(), 1, "{shown:?}");
    let answer = piece(&client, &url, 150_000, &whole[150_000..]).send().await?;
    assert_eq!(answer.status(), StatusCode::NO_CONTENT);
    let state = application.call(Method::GET, &place, None).await?;
    assert_eq!(state["path"], "card/Clip 50%25_2.MOV");
    assert!(std::fs::read(root.join("card/Clip 50%_2.MOV"))? == whole, "what arrived differs from what was sent");
    assert_eq!(std::fs::read(root.join("card/Clip 50%.MOV"))?, b"was here before");

    // What cannot be: out of the storage, hidden, larger than the disk, longer than announced.
    for path in ["../x.mov", "/x.mov", "", ".hidden/x.mov", "a/../../x.mov"] {
        let answer = announce(&client, application.address(), &storage, path, 10).send().await?;
        assert!(answer.status().is_client_error(), "{path}: {}", answer.status());
    }
    let answer = announce(&client, application.address(), &storage, "x.mov", 1 << 60).send().await?;
    assert_eq!(answer.status(), StatusCode::INSUFFICIENT_STORAGE);
    let created = announce(&client, application.address(), &storage, "y.mov", 4).send().await?;
    let place = created.headers().get("location").and_then(|place| place.to_str().ok()).ok_or("no location")?.to_owned();
    let url = format!("{}{place}", application.address());
    let answer = piece(&client, &url, 0, b"12345").send().await?;
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    // Given up, it leaves nothing.
    assert_eq!(client.delete(&url).send().await?.status(), StatusCode::NO_CONTENT);
    assert_eq!(client.head(&url).send().await?.status(), StatusCode::NOT_FOUND);
    assert_eq!(names_in(&root)?, ["card"]);
    Ok(())
}

/// A sheet with one source and one deliverable that are run; answers source and run.
async fn made(application: &Application, clip: &str, preset: &str) -> Outcome<(String, Value)> {
    let media = application.folder("media")?;
    make_clips(&media, &[clip], 1)?;
    let storage = application.add_storage("Media", &media).await?;
    let sheet = text(&application.call(Method::POST, "/api/sheets", Some(json!({ "name": "One" }))).await?["id"]);
    let body = json!({ "storage": storage, "paths": [""] });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/sources"), Some(body)).await?;
    let body = json!({ "preset": builtin(preset) });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/deliverables"), Some(body)).await?;
    application.settled_sheet(&sheet).await?;
    application.call(Method::POST, &format!("/api/sheets/{sheet}/run"), Some(json!({}))).await?;
    let is_done = |sheet: &Value| sheet["cells"][0]["run"]["state"] == "done";
    let done = application.wait_for(&format!("/api/sheets/{sheet}"), is_done).await?;
    Ok((text(&done["sources"][0]["id"]), done["cells"][0]["run"].clone()))
}

#[tokio::test(flavor = "multi_thread")]
async fn media_is_given_in_ranges_and_what_browsers_lack_as_a_copy() -> Outcome<()> {
    let application = Application::start().await?;
    let (source, run) = made(&application, "openday-94_tape-2.mov", "review-small").await?;
    let address = application.address();
    let client = Client::new();
    let url = format!("{address}/api/runs/{}/media", text(&run["id"]));
    let whole = client.get(&url).send().await?;
    assert_eq!(whole.headers()["accept-ranges"], "bytes");
    let whole = whole.bytes().await?;
    assert_eq!(Some(whole.len() as u64), run["size"].as_u64());
    let last = whole.len() - 1;
    for (range, from, to) in [
        ("bytes=0-99".to_owned(), 0, 99),
        ("bytes=100-".to_owned(), 100, last),
        ("bytes=-100".to_owned(), last - 99, last),
        (format!("bytes=50-{}", last + 1000), 50, last),
    ] {
        let part = client.get(&url).header("range", &range).send().await?;
        assert_eq!(part.status(), StatusCode::PARTIAL_CONTENT, "{range}");
        assert_eq!(part.headers()["content-range"], format!("bytes {from}-{to}/{}", whole.len()).as_str());
        assert!(part.bytes().await? == whole[from..=to], "{range}");
    }
    let outside = client.get(&url).header("range", format!("bytes={}-", whole.len())).send().await?;
    assert_eq!(outside.status(), StatusCode::RANGE_NOT_SATISFIABLE);

    // The output plays as it is; the interlaced tape is given as a copy, made once.
    let viewing = application.call(Method::POST, &format!("/api/runs/{}/viewing", text(&run["id"])), None).await?;
    assert_eq!((&viewing["state"], &viewing["is_copy"]), (&json!("ready"), &json!(false)));
    let path = format!("/api/sources/{source}/viewing");
    let ready = copy_of(&application, &path).await?;
    assert_eq!(ready["is_copy"], true);
    let copy = client.get(format!("{address}{}", text(&ready["url"]))).send().await?;
    assert_eq!(copy.headers()["content-type"], "video/mp4");
    let copy = copy.bytes().await?;
    assert_eq!(&copy[4..8], b"ftyp");

    // The processor time of the run was kept: the forecast of the next nights rests on it.
    let night = application.call(Method::GET, "/api/night", None).await?;
    assert_eq!(night["jobs"], json!([]));
    assert_eq!(night["all_done_in"], Value::Null);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_preset_that_is_being_written_is_tried_as_it_stands() -> Outcome<()> {
    let application = Application::start().await?;
    let (source, _) = made(&application, "glaze-db_screen.mp4", "review-small").await?;
    let attempt = async |change: Value, source: Option<&str>| -> Outcome<Value> {
        let mut preset = serde_json::to_value(builtin("web-1080").ok_or("no preset")?)?;
        json_patch::merge(&mut preset, &change);
        application.call(Method::POST, "/api/presets/try", Some(json!({ "preset": preset, "source": source }))).await
    };
    let sound = attempt(json!({}), Some(&source)).await?;
    assert!(sound["faults"] == json!([]) && sound["bytes_per_minute"].as_u64() > Some(1_000_000), "{sound}");
    assert!(sound["forecast"]["size"].as_u64() > Some(0) && sound["refusal"].is_null(), "{sound}");
    let larger = attempt(json!({ "picture": { "rate": { "bits_per_second": 12_000_000 } } }), None).await?;
    assert!(larger["bytes_per_minute"].as_u64() > sound["bytes_per_minute"].as_u64() && larger["forecast"].is_null(), "{larger}");
    // Each fault stands at its setting, also in what cannot be read at all.
    for (change, field) in [
        (json!({ "picture": { "adjustment": { "gamma": 9 } } }), "picture.adjustment.gamma"),
        (json!({ "picture": { "codec": "glaze" } }), "picture.codec"),
        (json!({ "sound": { "codec": "pcm24", "bits_per_second": null } }), "sound.codec"),
    ] {
        let tried = attempt(change, Some(&source)).await?;
        assert!(tried["faults"][0]["field"] == field && tried["forecast"].is_null(), "{field}: {tried}");
    }
    let refused = attempt(json!({ "sound": { "tracks": [{ "from": [{ "stream": 9 }] }] } }), Some(&source)).await?;
    assert!(text(&refused["refusal"]).contains("stream 10 of the source is no sound"), "{refused}");
    assert!(attempt(json!({}), Some("00000000-0000-0000-0000-000000000000")).await.is_err());

    // What is saved is refused with the same faults, and nothing was saved by trying.
    let mut broken = serde_json::to_value(builtin("web-1080").ok_or("no preset")?)?;
    json_patch::merge(&mut broken, &json!({ "id": "own", "picture": { "adjustment": { "gamma": 9 } } }));
    let answer = Client::new().post(format!("{}/api/presets", application.address())).json(&broken).send().await?;
    assert_eq!(answer.status(), StatusCode::UNPROCESSABLE_ENTITY);
    let problem: Value = answer.json().await?;
    assert_eq!(problem["faults"][0]["field"], "picture.adjustment.gamma", "{problem}");
    assert_eq!(problem["faults"][0]["code"], "out_of_range");
    let presets = application.call(Method::GET, "/api/presets", None).await?;
    assert_eq!(presets.as_array().map(Vec::len), Some(10));
    Ok(())
}

/// The address of a viewing copy, once it is made.
async fn copy_of(application: &Application, path: &str) -> Outcome<Value> {
    let began = Instant::now();
    loop {
        let viewing = application.call(Method::POST, path, None).await?;
        if viewing["state"] == "ready" {
            return Ok(viewing);
        }
        assert_eq!(viewing["state"], "making", "{viewing}");
        assert!(began.elapsed() < Duration::from_secs(60), "{viewing}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn any_stream_of_sound_is_heard_and_files_are_seen_before_they_are_sources() -> Outcome<()> {
    let application = Application::start().await?;
    let (source, _) = made(&application, "interview_odile_en-fr.mkv", "review-small").await?;
    let (address, client) = (application.address(), Client::new());
    let path = format!("/api/sources/{source}/viewing");
    let refused = application.call(Method::POST, &format!("{path}?sound=0"), None).await.err().ok_or("a picture was heard")?;
    assert!(refused.to_string().contains("stream 1 of interview_odile_en-fr.mkv is no sound"), "{refused}");
    let mut heard = Vec::new();
    for stream in [2, 1] {
        let ready = copy_of(&application, &format!("{path}?sound={stream}")).await?;
        assert_eq!(ready["is_copy"], true, "browsers would play the first: {ready}");
        let bytes = client.get(format!("{address}{}", text(&ready["url"]))).send().await?.error_for_status()?.bytes().await?;
        let folder = tempfile::tempdir()?;
        std::fs::write(folder.path().join("copy.mp4"), &bytes)?;
        let file = FileRef::within(folder.path().display().to_string(), "copy.mp4".parse()?);
        let reading = Engine::locate()?.probe(&SourceRef::of(file)).await?;
        heard.extend(reading.facts.sounds().map(|(stream, _)| stream.language.clone()));
    }
    assert_eq!(heard.iter().map(Option::as_deref).collect::<Vec<_>>(), [Some("fra"), Some("eng")]);

    // A file that is no source yet has a picture; one that is no media has none, and says so.
    let storages = application.call(Method::GET, "/api/storages", None).await?;
    let picture = format!("{address}/api/storages/{}/entries/picture", text(&storages[0]["id"]));
    let media = application.folder("media")?;
    make_clips(&media, &["openday-94_tape-2.mov"], 1)?;
    let fresh = client.get(format!("{picture}?path=openday-94_tape-2.mov")).send().await?.error_for_status()?;
    assert_eq!(fresh.headers()["content-type"], "image/jpeg");
    let fresh = fresh.bytes().await?;
    assert!(fresh.starts_with(&[0xFF, 0xD8]) && fresh.len() > 1000, "{}", fresh.len());
    std::fs::write(media.join("notes.mov"), "no film")?;
    for (path, status) in [("notes.mov", 422), ("gone.mov", 404), ("../x.mov", 422)] {
        let refused = client.get(format!("{picture}?path={path}")).send().await?;
        assert_eq!(refused.status(), status, "{path}");
    }
    // Thrown out of the cache, the picture of a source is made again when somebody looks.
    let cache = application.folder("cache")?;
    let thumbnail = cache.join(format!("thumbnail-{source}.jpg"));
    let before = std::fs::read(&thumbnail)?;
    std::fs::remove_file(&thumbnail)?;
    let again = client.get(format!("{address}/api/sources/{source}/thumbnail")).send().await?.error_for_status()?.bytes().await?;
    assert!(before == again, "it is the same picture");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_removed_from_a_sheet_can_be_restored_with_all_that_was_set() -> Outcome<()> {
    let application = Application::start().await?;
    let (source, _) = made(&application, "glaze-db_screen.mp4", "sound-only").await?;
    let sheets = application.call(Method::GET, "/api/sheets", None).await?;
    let path = format!("/api/sheets/{}", text(&sheets[0]["id"]));
    let before = application.call(Method::GET, &path, None).await?;
    let column = text(&before["deliverables"][0]["id"]);
    application.call(Method::DELETE, &format!("/api/deliverables/{column}"), None).await?;
    application.call(Method::DELETE, &format!("{path}/sources"), Some(json!({ "sources": [source] }))).await?;
    let empty = application.call(Method::GET, &path, None).await?;
    assert_eq!((&empty["sources"], &empty["deliverables"]), (&json!([]), &json!([])));
    let back = json!({ "sources": [source], "deliverables": [column] });
    application.call(Method::DELETE, &path, None).await?;
    assert_eq!(application.call(Method::GET, "/api/sheets", None).await?, json!([]));
    application.call(Method::POST, &format!("{path}/restore"), Some(back)).await?;
    let mut after = application.call(Method::GET, &path, None).await?;
    assert!(after["seq"].as_u64() > before["seq"].as_u64(), "what was done was not told");
    after["seq"] = before["seq"].clone();
    assert_eq!(after, before);
    Ok(())
}

/// The status of a refusal, and whether it says what, why and what next.
async fn refused(application: &Application, method: Method, path: &str, body: String) -> Outcome<(StatusCode, bool)> {
    let request = Client::new().request(method, format!("{}{path}", application.address()));
    let answer = request.header("content-type", "application/json").body(body).send().await?;
    let status = answer.status();
    let problem: Value = serde_json::from_str(&answer.text().await?).unwrap_or_default();
    Ok((status, ["what", "why", "next"].iter().all(|field| problem[field].is_string())))
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_input_is_refused_with_what_why_and_what_next() -> Outcome<()> {
    let application = Application::start().await?;
    let (source, _) = made(&application, "glaze-db_screen.mp4", "sound-only").await?;
    let sheets = application.call(Method::GET, "/api/sheets", None).await?;
    let own = format!("/api/sheets/{}", text(&sheets[0]["id"]));
    let view = application.call(Method::GET, &own, None).await?;
    let (column, preset) = (text(&view["deliverables"][0]["id"]), &view["deliverables"][0]["preset"]);
    let other = text(&application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Other" }))).await?["id"]);
    let other = format!("/api/sheets/{other}");
    let nobody = "00000000-0000-7000-8000-000000000000";
    let cell = json!({ "cells": [{ "source": source, "deliverable": column }], "enabled": false });
    let unknown_row = json!({ "cells": [{ "source": nobody, "deliverable": column }], "enabled": false });
    let unknown_column = json!({ "cells": [{ "source": source, "deliverable": nobody }], "enabled": false });
    let rows = json!({ "sources": [source], "overrides": {} });
    let new_column =
        |pattern: String, folder: String| json!({ "preset": preset, "storage": null, "folder": folder, "name_pattern": pattern });
    let mut long_name = preset.clone();
    (long_name["id"], long_name["name"]) = (json!("long"), json!("n".repeat(70_000)));
    let proof = json!({
        "sheet": other, "source": source, "deliverable": column, "moments": ["3600"], "seconds": "1",
        "variants": [{ "label": "", "overrides": {} }],
    });
    let (post, get) = (Method::POST, Method::GET);
    let cases = [
        (&post, "/api/sheets".to_owned(), "{".to_owned()),
        (&post, "/api/sheets".to_owned(), json!({ "name": 3 }).to_string()),
        (&post, "/api/sheets".to_owned(), json!({ "name": "n".repeat(8 << 20) }).to_string()),
        (&Method::PUT, "/api/sheets".to_owned(), "{}".to_owned()),
        (&post, "/api/presets".to_owned(), format!("{}1{}", "{\"a\":".repeat(2000), "}".repeat(2000))),
        (&post, "/api/presets".to_owned(), long_name.to_string()),
        (&get, "/api/sheets/nonsense".to_owned(), String::new()),
        (&get, "/api/nonsense".to_owned(), String::new()),
        (&get, format!("/api/sources/{source}/still?at=1/0"), String::new()),
        (&post, format!("{other}/cells"), cell.to_string()),
        (&post, format!("{own}/cells"), unknown_row.to_string()),
        (&post, format!("{own}/cells"), unknown_column.to_string()),
        (&post, format!("{other}/run"), cell.to_string()),
        (&post, format!("/api/sheets/{nobody}/run"), "{}".to_owned()),
        (&post, format!("{other}/rows"), rows.to_string()),
        (&Method::DELETE, format!("{other}/sources"), rows.to_string()),
        (&post, format!("{other}/restore"), json!({ "deliverables": [column] }).to_string()),
        (&post, format!("{own}/deliverables"), new_column("p".repeat(70_000), String::new()).to_string()),
        (&post, format!("{own}/deliverables"), new_column("p".to_owned(), "f".repeat(300)).to_string()),
        (&post, "/api/proofs".to_owned(), proof.to_string()),
    ];
    for (method, path, body) in cases {
        let words: String = body.chars().take(80).collect();
        let (status, is_problem) = refused(&application, method.clone(), &path, body).await?;
        assert!(status.is_client_error() && is_problem, "{method} {path} {words}: {status}");
    }
    assert_eq!(application.call(Method::GET, &own, None).await?["cells"], view["cells"]);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn what_creates_is_answered_once_for_each_key() -> Outcome<()> {
    let application = Application::start().await?;
    let client = Client::new();
    let ask = async |key: &'static str, name: &'static str| -> Outcome<(StatusCode, Value)> {
        let request = client.post(format!("{}/api/sheets", application.address())).header("idempotency-key", key);
        let answer = request.json(&json!({ "name": name })).send().await?;
        Ok((answer.status(), serde_json::from_str(&answer.text().await?)?))
    };
    let (first, again) = (ask("one", "Clay").await?, ask("one", "Clay").await?);
    assert_eq!((first.0, &first.1["id"]), (again.0, &again.1["id"]));
    assert_eq!(ask("one", "Fire").await?.0, StatusCode::UNPROCESSABLE_ENTITY);
    // Of many at once one creates; the others are told what it made, or that it is being made.
    let asked = futures::future::try_join_all((0..8).map(|_| ask("two", "Fire"))).await?;
    assert!(asked.iter().all(|(status, _)| *status == StatusCode::OK || *status == StatusCode::CONFLICT), "{asked:?}");
    let sheets = application.call(Method::GET, "/api/sheets", None).await?;
    let names: Vec<String> = sheets.as_array().into_iter().flatten().map(|sheet| text(&sheet["name"])).collect();
    assert_eq!(names, ["Fire", "Clay"]);
    // A preset of the house is there for the command line as soon as it is kept.
    let mut own = application.call(Method::GET, "/api/presets", None).await?[0]["preset"].clone();
    own["id"] = json!("house-web");
    application.call(Method::POST, "/api/presets", Some(own)).await?;
    let file = application.folder("presets")?.join("house-web.json");
    assert!(serde_json::from_slice::<Value>(&std::fs::read(&file)?)?["id"] == "house-web");
    application.call(Method::DELETE, "/api/presets/house-web", None).await?;
    assert!(!file.exists());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn tables_are_checked_kept_and_used_by_name_and_samples_sharpen_the_forecast() -> Outcome<()> {
    let application = Application::start().await?;
    let media = application.folder("media")?;
    make_clips(&media, &["clip-0003.mov"], 2)?;
    let storage = application.add_storage("Media", &media).await?;
    let (client, address) = (Client::new(), application.address().to_owned());
    let add = async |kind: &str, name: &str, bytes: &'static [u8]| -> Outcome<(StatusCode, Value)> {
        let answer = client.post(format!("{address}/api/assets?kind={kind}&name={name}")).body(bytes).send().await?;
        Ok((answer.status(), serde_json::from_str(&answer.text().await?)?))
    };
    let (status, refused) = add("lut", "bad.cube", b"LUT_3D_SIZE 2\n0 0 0\n0 one 0\n").await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text(&refused["why"]).contains("line 3"), "{refused}");
    let (status, refused) = add("picture", "bad.png", b"GIF89a").await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && text(&refused["why"]).contains("PNG"), "{refused}");
    let inverted = b"LUT_1D_SIZE 2\n1 1 1\n0 0 0\n";
    let (status, kept) = add("lut", "negative.cube", inverted).await?;
    assert!(status.is_success() && text(&kept["detail"]) == "curves of 2 points", "{kept}");
    let names = application.call(Method::GET, "/api/assets", None).await?;
    let names: Vec<String> = names.as_array().into_iter().flatten().map(|asset| text(&asset["name"])).collect();
    assert_eq!(names, ["fenmark-log-to-rec709", "negative.cube"]);

    let sheet = text(&application.call(Method::POST, "/api/sheets", Some(json!({ "name": "Looks" }))).await?["id"]);
    let sources = json!({ "storage": storage, "paths": [""] });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/sources"), Some(sources)).await?;
    let column = json!({ "preset": builtin("review-small"), "storage": null, "folder": "", "name_pattern": "<name>_made", "clash": "number" });
    application.call(Method::POST, &format!("/api/sheets/{sheet}/deliverables"), Some(column)).await?;
    let view = application.settled_sheet(&sheet).await?;
    let (source, deliverable) = (text(&view["sources"][0]["id"]), text(&view["deliverables"][0]["id"]));
    let proved = async |table: &str| -> Outcome<Value> {
        let settings = json!({ "sources": [source], "overrides": { "picture": { "colour": { "lut": table } } } });
        application.call(Method::POST, &format!("/api/sheets/{sheet}/rows"), Some(settings)).await?;
        let wish = json!({
            "sheet": sheet, "source": source, "deliverable": deliverable, "moments": [], "seconds": "1", "size": true,
            "variants": [{ "label": "", "overrides": {} }],
        });
        let ids = application.call(Method::POST, "/api/proofs", Some(wish)).await?;
        let own = |all: &Value| {
            let mut all = all["proofs"].as_array().into_iter().flatten();
            all.find(|proof| proof["id"] == ids[0]).cloned().unwrap_or_default()
        };
        let has_ended = |all: &Value| own(all)["state"] == "done" || own(all)["state"] == "failed";
        let all = application.wait_for(&format!("/api/outputs/{source}/{deliverable}/proofs"), has_ended).await?;
        Ok(own(&all))
    };
    let made = proved("negative.cube").await?;
    assert!(made["state"] == "done" && made["whole"]["certainty"] == "sampled", "{made}");
    let still = |side: &str| format!("{address}/api/proofs/{}/still?frame=3&side={side}", text(&made["id"]));
    for side in ["source", "made"] {
        let picture = client.get(still(side)).send().await?;
        assert_eq!(picture.status(), StatusCode::OK);
        assert!(picture.bytes().await?.starts_with(b"\x89PNG"), "{side}");
    }
    // What is not there is named, in the proof as in the run.
    let missing = proved("gone.cube").await?;
    assert!(missing["state"] == "failed" && text(&missing["problem"]["what"]).contains("gone.cube"), "{missing}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_start_clears_the_cache_of_what_nothing_belongs_to() -> Outcome<()> {
    let application = Application::start().await?;
    let cache = application.folder("cache")?;
    let table = "LUT_1D_SIZE 2\n0 0 0\n1 1 1\n";
    let address = format!("{}/api/assets?kind=lut&name=own.cube", application.address());
    let answer = Client::new().post(address).body(table).send().await?.text().await?;
    let id = text(&serde_json::from_str::<Value>(&answer)?["id"]);
    let gone = "01900000-0000-7000-8000-000000000000";
    let strays =
        [format!("proof-{gone}.mp4"), format!("proof-{gone}-both.mp4"), format!("asset-{gone}"), "still-x.jpg".to_owned()];
    let stays = [format!("asset-{id}"), "viewing-x.mp4".to_owned()];
    for name in strays.iter().chain(&stays) {
        std::fs::write(cache.join(name), "bytes")?;
    }
    let _restarted = application.restart().await?;
    assert_eq!(strays.map(|name| cache.join(name).exists()), [false; 4]);
    assert_eq!(stays.map(|name| cache.join(name).exists()), [true; 2]);
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_picture_that_nobody_waits_for_any_more_does_not_stand_for_the_next() -> Outcome<()> {
    let application = Application::start().await?;
    let (source, _) = made(&application, "kiln-07_firing_cam-b.mp4", "sound-only").await?;
    let client = Client::new();
    let picture =
        |frame: i32| client.get(format!("{}/api/sources/{source}/still?at={frame}/25&width=640", application.address()));
    let mut right = Vec::new();
    for frame in [0, 20] {
        right.push(picture(frame).send().await?.error_for_status()?.bytes().await?);
    }
    assert_ne!(right[0], right[1]);
    // Who leaves the page in the middle of it asks no more; who comes next gets what he has asked for.
    let mut left = 0;
    for frame in (0..25).chain(0..25) {
        left += usize::from(picture(frame).timeout(Duration::from_millis(2)).send().await.is_err());
    }
    assert!(left > 0, "nobody has left early");
    for (frame, right) in [0, 20].into_iter().zip(&right) {
        let answer = picture(frame).send().await?;
        assert_eq!(answer.status(), StatusCode::OK, "frame {frame} after {left} that were left");
        assert!(answer.bytes().await? == *right, "frame {frame} is another one");
    }
    // What was drawn for those who left does not stay.
    let cache = application.folder("cache")?;
    let stays =
        std::fs::read_dir(cache)?.flatten().filter(|entry| entry.file_name().to_string_lossy().starts_with("still-")).count();
    assert_eq!(stays, 0);
    Ok(())
}
