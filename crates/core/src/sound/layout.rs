//! Channel layouts by the libraries' words for them.

use std::borrow::Cow;

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

/// The layout of so many channels that were put together: the usual one, or a bare count.
#[must_use]
pub fn of_count(channels: u32) -> Cow<'static, str> {
    usual(channels).map_or_else(|| Cow::Owned(format!("{channels} channels")), Cow::Borrowed)
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

/// The speakers of a layout, in the order of its channels, by their short names; nothing where it does not tell.
#[must_use]
pub fn speakers(layout: &str) -> Option<&'static [&'static str]> {
    Some(match layout {
        "mono" => &["FC"],
        "stereo" => &["FL", "FR"],
        "2.1" => &["FL", "FR", "LFE"],
        "3.0" => &["FL", "FR", "FC"],
        "3.0(back)" => &["FL", "FR", "BC"],
        "4.0" => &["FL", "FR", "FC", "BC"],
        "quad" => &["FL", "FR", "BL", "BR"],
        "quad(side)" => &["FL", "FR", "SL", "SR"],
        "3.1" => &["FL", "FR", "FC", "LFE"],
        "5.0" => &["FL", "FR", "FC", "BL", "BR"],
        "5.0(side)" => &["FL", "FR", "FC", "SL", "SR"],
        "4.1" => &["FL", "FR", "FC", "LFE", "BC"],
        "5.1" => &["FL", "FR", "FC", "LFE", "BL", "BR"],
        "5.1(side)" => &["FL", "FR", "FC", "LFE", "SL", "SR"],
        "6.0" => &["FL", "FR", "FC", "BC", "SL", "SR"],
        "6.0(front)" => &["FL", "FR", "FLC", "FRC", "SL", "SR"],
        "hexagonal" => &["FL", "FR", "FC", "BL", "BR", "BC"],
        "6.1" => &["FL", "FR", "FC", "LFE", "BC", "SL", "SR"],
        "6.1(back)" => &["FL", "FR", "FC", "LFE", "BL", "BR", "BC"],
        "6.1(front)" => &["FL", "FR", "LFE", "FLC", "FRC", "SL", "SR"],
        "7.0" => &["FL", "FR", "FC", "BL", "BR", "SL", "SR"],
        "7.0(front)" => &["FL", "FR", "FC", "FLC", "FRC", "SL", "SR"],
        "7.1" => &["FL", "FR", "FC", "LFE", "BL", "BR", "SL", "SR"],
        "7.1(wide)" => &["FL", "FR", "FC", "LFE", "BL", "BR", "FLC", "FRC"],
        "7.1(wide-side)" => &["FL", "FR", "FC", "LFE", "FLC", "FRC", "SL", "SR"],
        "7.1(top)" => &["FL", "FR", "FC", "LFE", "BL", "BR", "TFL", "TFR"],
        "octagonal" => &["FL", "FR", "FC", "BL", "BR", "BC", "SL", "SR"],
        "cube" => &["FL", "FR", "BL", "BR", "TFL", "TFR", "TBL", "TBR"],
        "hexadecagonal" => {
            &["FL", "FR", "FC", "BL", "BR", "BC", "SL", "SR", "TFL", "TFC", "TFR", "TBL", "TBC", "TBR", "WL", "WR"]
        }
        "downmix" => &["DL", "DR"],
        _ => return None,
    })
}
