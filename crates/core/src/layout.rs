//! Channel layouts by the libraries' words for them.

/// Whether such a layout tells where its channels belong, so that they can be mixed by their places. Bare counts, sets
/// of speakers without a name and sound fields do not.
#[must_use]
pub fn is_placed(layout: &str) -> bool {
    !(layout.contains(" channels") || layout.starts_with("ambisonic"))
}

/// The layout that so many channels have where nothing is said.
#[must_use]
pub const fn usual(channels: u32) -> Option<&'static str> {
    match channels {
        1 => Some("mono"),
        2 => Some("stereo"),
        3 => Some("2.1"),
        4 => Some("4.0"),
        5 => Some("5.0"),
        6 => Some("5.1"),
        7 => Some("6.1"),
        8 => Some("7.1"),
        _ => None,
    }
}

/// The layout as the libraries read it, which describe some in more words than they take: a name, speakers joined by
/// `+`, or a bare count.
#[must_use]
pub fn notation(layout: &str, channels: u32) -> String {
    if is_placed(layout) {
        return layout.to_owned();
    }
    let speakers = layout.split_once('(').and_then(|(_, speakers)| speakers.strip_suffix(')'));
    speakers.filter(|_| layout.contains(" channels")).map_or_else(|| format!("{channels}C"), str::to_owned)
}
