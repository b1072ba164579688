//! Sound.

use beryl_core::plan::Track;
use beryl_core::sound::layout::notation;
use beryl_core::time::Rational;

use super::Options;
use crate::raw::{EncoderKind, EncoderSettings};

/// The encoder of a sound stream; nothing where the stream is taken over untouched.
pub(crate) fn sound(plan: &Track, global_header: bool) -> Option<EncoderSettings> {
    let mut options = Options::default();
    // The library calls encoders and what they make alike.
    let name = plan.codec.probe_name()?;
    if let Some(rate) = plan.bit_rate {
        options.set("b", rate.0);
    }
    if global_header {
        options.set("flags", "+global_header");
    }
    Some(EncoderSettings {
        name,
        kind: EncoderKind::Sound { sample_rate: plan.sample_rate, layout: notation(&plan.layout, plan.channels) },
        clock: Rational::new(1, plan.sample_rate.into()).unwrap_or(Rational::constant(1, 48_000)),
        options: options.entries,
        first_pass: None,
    })
}
