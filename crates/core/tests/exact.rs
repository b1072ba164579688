//! Exact time: fractions and timecode.

// Helpers of tests fail loudly.
#![allow(clippy::unwrap_used)]

use beryl_core::time::{Rational, Timecode, TimecodeBase, TimecodeError, duration_text};
use proptest::prelude::*;

fn rational(text: &str) -> Rational {
    text.parse().unwrap()
}

prop_compose! {
    fn fraction()(numerator in -1_000_000_i64..1_000_000, denominator in 1_i64..100_000) -> Rational {
        Rational::new(numerator, denominator).unwrap()
    }
}

proptest! {
    #[test]
    fn fractions_obey_the_laws_of_arithmetic(a in fraction(), b in fraction(), c in fraction()) {
        prop_assert_eq!(a + b, b + a);
        prop_assert_eq!((a + b) + c, a + (b + c));
        prop_assert_eq!(a * (b + c), a * b + a * c);
        prop_assert_eq!(a - a, Rational::ZERO);
        if let Some(quotient) = a.divided_by(b) {
            prop_assert_eq!(quotient * b, a);
        }
        prop_assert_eq!(a.to_string().parse::<Rational>().unwrap(), a);
        prop_assert!(Rational::whole(a.floor()) <= a && a < Rational::whole(a.floor() + 1));
        prop_assert!((Rational::whole(a.round()) - a).abs() <= Rational::constant(1, 2));
    }

    #[test]
    fn fractions_too_large_for_64_bits_are_rounded_and_never_panic(a in any::<i64>(), b in 1_i64.., c in any::<i64>(), d in 1_i64..) {
        let (one, other) = (Rational::new(a, b).unwrap(), Rational::new(c, d).unwrap());
        let product = one * other;
        prop_assert!(product.denominator() > 0);
        let exact = a as f64 / b as f64 * (c as f64 / d as f64);
        if exact.abs() < 1e15 && exact.abs() > 1e-3 {
            prop_assert!((product.to_f64() / exact - 1.0).abs() < 1e-6, "{} is not {}", product, exact);
        }
    }

    #[test]
    fn every_frame_of_a_day_has_one_timecode(rate in prop::sample::select(vec!["24000/1001", "24", "25", "30000/1001", "30", "48", "50", "60000/1001", "60", "100", "120000/1001", "120"]), drop in any::<bool>(), frame in 0_u64..10_000_000) {
        let rate = rational(rate);
        let Ok(base) = TimecodeBase::for_rate(rate, drop) else { return Ok(()) };
        let timecode = Timecode::from_frame(base, frame);
        let again = Timecode::parse(&timecode.to_string(), rate).unwrap();
        prop_assert_eq!(again, timecode);
        let next = Timecode::from_frame(base, frame + 1);
        prop_assert_ne!(next.to_string(), timecode.to_string());
    }
}

#[test]
fn drop_frame_follows_st_12() {
    let rate = rational("30000/1001");
    let base = TimecodeBase::for_rate(rate, true).unwrap();
    for (frame, text) in [
        (0, "00:00:00;00"),
        (1_799, "00:00:59;29"),
        (1_800, "00:01:00;02"),
        (17_981, "00:09:59;29"),
        (17_982, "00:10:00;00"),
        (107_892, "01:00:00;00"),
        (2_589_407, "23:59:59;29"),
        (2_589_408, "00:00:00;00"),
    ] {
        assert_eq!(Timecode::from_frame(base, frame).to_string(), text);
    }
    let double = TimecodeBase::for_rate(rational("59.94"), true).unwrap();
    assert_eq!(Timecode::from_frame(double, 3_600).to_string(), "00:01:00;04");
    assert_eq!(Timecode::parse("00:01:00;00", rate), Err(TimecodeError::Dropped("00:01:00;00".to_owned())));
    assert!(matches!(Timecode::parse("00:00:00:25", rational("25")), Err(TimecodeError::Range { .. })));
    assert!(matches!(Timecode::parse("00:00:00;00", rational("25")), Err(TimecodeError::Rate(_))));
    for nonsense in ["", "ab:cd:ef:gh", "00:00:00", "1:2:3:4:5", "00:00:00:", "::::"] {
        assert!(matches!(Timecode::parse(nonsense, rational("25")), Err(TimecodeError::Form(_))), "{nonsense}");
    }
}

#[test]
fn timecode_goes_over_to_another_rate_at_the_same_clock_time() {
    let at = |text: &str, from: &str, to: &str| {
        Timecode::parse(text, rational(from)).unwrap().at_rate(rational(to)).unwrap().to_string()
    };
    assert_eq!(at("10:00:00:12", "25", "50"), "10:00:00:24");
    assert_eq!(at("10:00:00:24", "50", "25"), "10:00:00:12");
    assert_eq!(at("01:00:00;00", "29.97", "23.976"), "01:00:00:00");
    assert_eq!(at("00:01:00;02", "29.97", "59.94"), "00:01:00;04");
}

#[test]
fn durations_keep_clock_time() {
    assert_eq!(duration_text(rational("8"), rational("25")), "00:00:08:00");
    assert_eq!(duration_text(rational("8.0005"), rational("12.03")), "00:00:08.001", "such frames are not counted");
    assert_eq!(duration_text(Rational::whole(107_892) * rational("1001/30000"), rational("29.97")), "01:00:00;00");
}

#[test]
fn a_language_has_one_code_whatever_form_a_file_gives_it() {
    use beryl_core::formats::Container;
    use beryl_core::formats::language::{canonical, code_for, is_same};
    for (file, code) in [("ger", "deu"), ("de-CH", "deu"), ("sve", "swe"), ("iri", "fas"), ("sr", "srp"), ("fra", "fra")] {
        assert_eq!(canonical(file).as_deref(), Some(code), "{file}");
        for container in [Container::Mov, Container::Mp4, Container::Mkv] {
            let written = code_for(container, code).unwrap();
            assert!(is_same(&written, code), "{code} is written as {written}");
        }
    }
    assert_eq!(canonical("und"), None);
}
