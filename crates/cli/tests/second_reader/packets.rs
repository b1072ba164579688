//! What a coded picture begins with.

/// Looks into one coded picture of a codec, by the container's name of it.
pub fn check(codec: &str, bytes: &[u8], length_size: usize) -> Result<(), String> {
    match codec {
        "avc1" | "avc3" | "V_MPEG4/ISO/AVC" => units(bytes, length_size, |unit| matches!(unit[0] & 31, 1 | 5)),
        "hvc1" | "hev1" | "V_MPEGH/ISO/HEVC" => units(bytes, length_size, |unit| (unit[0] >> 1) & 63 < 32),
        // SMPTE RDD 36: the size of the frame, then its name.
        "apco" | "apcs" | "apcn" | "apch" | "ap4h" | "ap4x" => {
            let size = bytes.first_chunk::<4>().map(|size| u32::from_be_bytes(*size) as usize);
            if size != Some(bytes.len()) || bytes.get(4..8) != Some(b"icpf") {
                return Err("no frame of ProRes".to_owned());
            }
            Ok(())
        }
        // ISO/IEC 13818-2: a sequence, a group or a picture.
        "mp4v" | "m2v1" | "xd5b" | "xdv" | "V_MPEG2" => match bytes {
            [0, 0, 1, 0xB3 | 0xB8 | 0x00, ..] => Ok(()),
            _ => Err("no picture of MPEG-2".to_owned()),
        },
        _ if bytes.is_empty() => Err("an empty packet".to_owned()),
        _ => Ok(()),
    }
}

/// Units with their length before each (ISO/IEC 14496-15), one of which at least is a slice.
fn units(bytes: &[u8], length_size: usize, is_slice: impl Fn(&[u8]) -> bool) -> Result<(), String> {
    let mut rest = bytes;
    let mut slices = 0;
    while !rest.is_empty() {
        let length = rest.get(..length_size).ok_or("a length is cut short")?;
        let length = length.iter().fold(0_usize, |sum, byte| sum << 8 | usize::from(*byte));
        let unit = rest.get(length_size..length_size + length).filter(|unit| !unit.is_empty());
        let unit = unit.ok_or_else(|| format!("a unit of {length} bytes in {} that are left", rest.len()))?;
        slices += usize::from(is_slice(unit));
        rest = &rest[length_size + length..];
    }
    if slices == 0 { Err("no slice in a picture".to_owned()) } else { Ok(()) }
}
