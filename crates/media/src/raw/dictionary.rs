//! Dictionaries: options that must be used up, and tags as bytes.

use std::collections::BTreeMap;
use std::ptr;

use ffmpeg_next::ffi;

use super::{AvError, c_text, text_of};

/// An owned dictionary.
pub(super) struct Dictionary(*mut ffi::AVDictionary);

impl Dictionary {
    pub(super) fn new<'a>(entries: impl IntoIterator<Item = (&'a str, &'a str)>) -> Self {
        let mut dictionary = Self(ptr::null_mut());
        for (name, value) in entries {
            let (name, value) = (c_text(name), c_text(value));
            // SAFETY: both texts end with NUL and are copied by the call; the pointer is ours.
            unsafe { ffi::av_dict_set(&mut dictionary.0, name.as_ptr(), value.as_ptr(), 0) };
        }
        dictionary
    }

    /// For calls that take options out of it.
    pub(super) fn as_mut(&mut self) -> *mut *mut ffi::AVDictionary {
        &mut self.0
    }

    /// Gives it away to a structure of the libraries that frees it.
    pub(super) fn into_raw(self) -> *mut ffi::AVDictionary {
        let pointer = self.0;
        std::mem::forget(self);
        pointer
    }

    /// An error where an option was not used: a misspelt name would otherwise vanish in silence.
    pub(super) fn must_be_used_up(&self, doing: &str) -> Result<(), AvError> {
        // SAFETY: the dictionary is ours and not changed during the call.
        let left: Vec<String> = unsafe { entries(self.0) }.into_keys().collect();
        if left.is_empty() { Ok(()) } else { Err(AvError::own(doing, format!("unknown options: {}", left.join(", ")))) }
    }
}

impl Drop for Dictionary {
    fn drop(&mut self) {
        // SAFETY: ours alone; freeing null is allowed.
        unsafe { ffi::av_dict_free(&mut self.0) };
    }
}

/// All entries of a dictionary of the libraries.
///
/// # Safety
/// `dictionary` is null or valid and unchanged during the call.
pub(super) unsafe fn entries(dictionary: *const ffi::AVDictionary) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut entry = ptr::null();
    loop {
        // SAFETY: the dictionary is valid by the caller's promise, `entry` is null or came from it;
        // key and value of an entry end with NUL.
        unsafe {
            entry = ffi::av_dict_get(dictionary, c"".as_ptr(), entry, ffi::AV_DICT_IGNORE_SUFFIX);
            if entry.is_null() {
                return found;
            }
            if let (Some(key), Some(value)) = (text_of((*entry).key), text_of((*entry).value)) {
                found.insert(key, value);
            }
        }
    }
}
