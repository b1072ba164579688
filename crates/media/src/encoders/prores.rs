//! ProRes (SMPTE RDD 36).

use beryl_core::formats::Profile;

use super::{Coding, Options};

pub(super) fn set(Coding { plan, .. }: Coding<'_>, options: &mut Options) -> &'static str {
    options.set(
        "profile",
        match plan.profile {
            Profile::Proxy => "proxy",
            Profile::Lt => "lt",
            Profile::Hq => "hq",
            Profile::P4444 => "4444",
            Profile::P4444Xq => "4444xq",
            _ => "standard",
        },
    );
    options.set("vendor", "brl0");
    if plan.field_order.is_interlaced() {
        options.flag("ildct");
    }
    "prores_ks"
}
