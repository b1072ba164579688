//! ProRes (SMPTE RDD 36).

use super::{Coding, Options};

pub(super) fn set(Coding { plan, .. }: Coding<'_>, options: &mut Options) {
    // The library has the same names for them.
    options.set("profile", plan.format.profile().id);
    options.set("vendor", "brl0");
    if plan.field_order.is_interlaced() {
        options.flag("ildct");
    }
}
