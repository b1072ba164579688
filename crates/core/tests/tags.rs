//! What files say of their colour and their samples, held against the tables of ITU-T H.273 and against itself.

use std::collections::BTreeSet;

use beryl_core::picture::{
    ChromaSite, Colour, ColourSpace, MatrixCoefficients, PixelFormat, Primaries, Range, Samples, Transfer,
};
use serde_json::{Value, json};

/// Numbers of the standard with the libraries' words, as its tables 2, 3 and 4 have them.
const PRIMARIES: [(u8, &str); 11] = [
    (1, "bt709"),
    (4, "bt470m"),
    (5, "bt470bg"),
    (6, "smpte170m"),
    (7, "smpte240m"),
    (8, "film"),
    (9, "bt2020"),
    (10, "smpte428"),
    (11, "smpte431"),
    (12, "smpte432"),
    (22, "ebu3213"),
];
const TRANSFERS: [(u8, &str); 16] = [
    (1, "bt709"),
    (4, "bt470m"),
    (5, "bt470bg"),
    (6, "smpte170m"),
    (7, "smpte240m"),
    (8, "linear"),
    (9, "log100"),
    (10, "log316"),
    (11, "iec61966-2-4"),
    (12, "bt1361e"),
    (13, "iec61966-2-1"),
    (14, "bt2020-10"),
    (15, "bt2020-12"),
    (16, "smpte2084"),
    (17, "smpte428"),
    (18, "arib-std-b67"),
];
const MATRICES: [(u8, &str); 13] = [
    (0, "gbr"),
    (1, "bt709"),
    (4, "fcc"),
    (5, "bt470bg"),
    (6, "smpte170m"),
    (7, "smpte240m"),
    (8, "ycgco"),
    (9, "bt2020nc"),
    (10, "bt2020c"),
    (11, "smpte2085"),
    (12, "chroma-derived-nc"),
    (13, "chroma-derived-c"),
    (14, "ictcp"),
];

#[test]
fn code_points_are_those_of_the_standard_and_every_other_number_says_nothing() {
    for number in 0..=u8::MAX {
        let word = |table: &[(u8, &'static str)]| table.iter().find(|(known, _)| *known == number).map(|(_, word)| *word);
        assert_eq!(Primaries::numbered(number).map(Primaries::word), word(&PRIMARIES), "primaries {number}");
        assert_eq!(Transfer::numbered(number).map(Transfer::word), word(&TRANSFERS), "transfer {number}");
        assert_eq!(MatrixCoefficients::numbered(number).map(MatrixCoefficients::word), word(&MATRICES), "matrix {number}");
    }
    for (number, word) in ["left", "center", "topleft", "top", "bottomleft", "bottom"].into_iter().enumerate() {
        let site = ChromaSite::numbered(u8::try_from(number).unwrap()).unwrap();
        assert_eq!((site.word(), usize::from(site.number())), (word, number));
    }
    assert_eq!(ChromaSite::numbered(6), None);
}

#[test]
fn people_read_different_words_for_different_code_points() {
    let of = |words: Vec<&'static str>| (words.len(), words.into_iter().collect::<BTreeSet<_>>().len());
    let all = [
        of(Primaries::ALL.iter().map(|one| one.words()).collect()),
        of(Transfer::ALL.iter().map(|one| one.words()).collect()),
        of(MatrixCoefficients::ALL.iter().map(|one| one.words()).collect()),
    ];
    assert!(all.iter().all(|(count, different)| count == different), "{all:?}");
}

#[test]
fn documents_keep_their_words_and_those_that_say_nothing_become_nothing() {
    let read = |document: Value| serde_json::from_value::<Colour>(document).unwrap();
    let whole = json!({
        "primaries": "bt2020", "transfer": "arib-std-b67", "matrix": "bt2020nc", "range": "tv", "chroma_location": "topleft",
    });
    let colour = read(whole.clone());
    assert_eq!(colour.transfer, Some(Transfer::Hlg));
    assert_eq!((colour.range, colour.chroma_location), (Some(Range::Limited), Some(ChromaSite::TopLeft)));
    assert_eq!(serde_json::to_value(colour).unwrap(), whole);
    // Earlier versions have kept whatever word the libraries gave.
    let vague = json!({ "primaries": "reserved", "transfer": "unknown", "matrix": null, "range": "full" });
    assert_eq!(read(vague), Colour::default());
    assert_eq!(read(json!({})), Colour::default());
}

#[test]
fn a_space_is_named_once_where_all_of_it_has_one_name() {
    assert_eq!(ColourSpace::rec709().words(), "BT.709");
    let high = ColourSpace { primaries: Primaries::Bt2020, transfer: Transfer::Pq, ..ColourSpace::rec709() };
    assert_eq!(high.words(), "BT.2020 / PQ / BT.709");
    assert!(high.is_high_range() && !ColourSpace::rec709().is_high_range());
    assert!(high.in_rgb().is_rgb() && !high.in_rgb().in_luma_and_chroma().is_rgb());
}

#[test]
fn pixel_formats_say_what_they_hold() {
    for (name, sampling, depth, has_alpha, range) in [
        ("yuv420p", "4:2:0", 8, false, None),
        ("yuvj422p", "4:2:2", 8, false, Some(Range::Full)),
        ("yuva444p12le", "4:4:4", 12, true, None),
        ("p010le", "4:2:0", 10, false, None),
        ("gbrap16le", "RGB", 16, true, None),
        ("gray10le", "grey", 10, false, None),
        ("uyyvyy411", "4:1:1", 8, false, None),
    ] {
        let format = PixelFormat::from(name);
        let form = format.form();
        assert_eq!((form.words(), form.depth, form.has_alpha(), format.range()), (sampling, depth, has_alpha, range), "{name}");
        assert_eq!(serde_json::to_value(&format).unwrap(), name);
    }
    assert_eq!(PixelFormat::from("yuvj420p").without_range(), "yuv420p");
    assert_eq!(PixelFormat::from("yuv420p").without_range(), "yuv420p");
}

#[test]
fn what_no_conversion_knows_is_named_only_where_something_has_to_be_converted() {
    let samples = |space: ColourSpace| Samples { pixel_format: "yuv444p16le".into(), space, chroma: ChromaSite::Left };
    let standard = ColourSpace::rec709();
    let high = ColourSpace {
        primaries: Primaries::Bt2020,
        transfer: Transfer::Hlg,
        matrix: MatrixCoefficients::Bt2020,
        full_range: false,
    };
    let extended = ColourSpace { transfer: Transfer::Bt1361, ..standard };
    let distances = ColourSpace { matrix: MatrixCoefficients::St2085, ..standard };
    let television = ColourSpace { primaries: Primaries::Bt601With625, transfer: Transfer::Gamma28, ..standard };
    let converted = |from: ColourSpace, to: ColourSpace| {
        let both = samples(from).conversion(&samples(to));
        both.map(|both| (both.from, both.to))
    };
    // Light that stays, and a matrix that stays, need no numbers.
    for space in [standard, high, extended, distances] {
        assert_eq!(converted(space, space), Ok(([1; 3], [1; 3])), "{space:?}");
    }
    assert_eq!(converted(high, standard), Ok(([9, 18, 9], [1, 1, 1])));
    // A gamma of 2.8 is shown as that of BT.709 is.
    assert_eq!(converted(television, standard), Ok(([5, 1, 1], [1, 1, 1])));
    // Red, green and blue always become luma and chroma by a matrix.
    assert_eq!(converted(standard.in_rgb(), standard), Ok(([1, 1, 0], [1, 1, 1])));
    // Colour of constant luminance is computed from light, though the light stays.
    let constant = ColourSpace { matrix: MatrixCoefficients::Bt2020Constant, transfer: Transfer::Bt2020With12, ..high };
    let plain = ColourSpace { matrix: MatrixCoefficients::Bt2020, ..constant };
    assert_eq!(converted(constant, plain), Ok(([9, 1, 10], [9, 1, 9])));
    assert_eq!(converted(standard, high), Err("HLG"), "light is brought to standard displays alone");
    assert_eq!(converted(extended, television), Err("BT.1361"));
    assert_eq!(converted(distances, high.in_luma_and_chroma()), Err("HLG"));
    assert_eq!(converted(distances, standard), Err("ST 2085"));
}
