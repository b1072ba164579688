//! Sound at another speed with its pitch kept.

use beryl_core::time::Rational;

use crate::raw::{AvError, Frame, Graph, GraphInput, sample_format_number};

/// Parts of a second of silence that bring out what the filters still hold. They are never told of an end: the finer
/// ones take the first samples they see behind that news for the last.
pub(super) const REST: u32 = 2;
/// Samples that they are given at a time.
pub(super) const PORTION: u32 = 1024;

/// Tones keep their height and channels their places; what is hit hard is not moved to be heard the more sharply.
const STEADY: &str = "transients=smooth:phase=independent:channels=together";

/// The filters that stretch it: the finer ones where the library has them, begun as late as they make it.
pub(super) fn filters(speed: Rational, sample_rate: u32) -> Result<String, AvError> {
    let speed_text = format!("{:.12}", speed.to_f64());
    let fine = format!("aformat=sample_fmts=fltp,rubberband=tempo={speed_text}:pitchq=quality:{STEADY}");
    let plain = format!("aformat=sample_fmts=fltp,atempo={speed_text}");
    let (filters, late) = match delay(&fine, speed, sample_rate) {
        Ok(late) => (fine, late),
        // The library was built without it.
        Err(_) => (plain.clone(), delay(&plain, speed, sample_rate)?),
    };
    Ok(match usize::try_from(late) {
        Ok(late) => format!("{filters},atrim=start_sample={late},asetpts=N/SR/TB"),
        Err(_) => format!("adelay=delays={}S:all=1,{filters}", (-Rational::whole(late) * speed).round()),
    })
}

/// By how many samples these filters make sound late, or early. They do not say; a click tells.
fn delay(filters: &str, speed: Rational, sample_rate: u32) -> Result<i64, AvError> {
    let format = sample_format_number("dbl")?;
    let (length, place) = (sample_rate as usize * 2, sample_rate as usize);
    let clock = Rational::new(1, sample_rate.into()).unwrap_or(Rational::ONE);
    let samples: Vec<f64> = (0..length).map(|at| f64::from(u8::from(at == place))).collect();
    let mut graph = None;
    let mut heard: Vec<f64> = Vec::new();
    for (number, portion) in samples.chunks_exact(PORTION as usize).enumerate() {
        let mut frame = Frame::audio(PORTION, 1, sample_rate, format)?;
        let bytes: Vec<u8> = portion.iter().flat_map(|sample| sample.to_ne_bytes()).collect();
        frame.write_sound(&bytes)?;
        frame.set_times(i64::try_from(number).unwrap_or(0) * i64::from(PORTION), PORTION.into());
        let graph = match &mut graph {
            Some(graph) => graph,
            none => none.insert(Graph::new(&GraphInput::of_sound(&frame, clock), &format!("{filters},aformat=sample_fmts=dbl"))?),
        };
        graph.push(Some(frame))?;
        while let Some(frame) = graph.pull()? {
            heard.extend_from_slice(frame.doubles());
        }
    }
    let loudest = heard.iter().enumerate().max_by(|(_, one), (_, other)| one.abs().total_cmp(&other.abs()));
    let wanted = Rational::whole(i64::try_from(place).unwrap_or(0)).divided_by(speed).map_or(0, Rational::round);
    let (at, _) = loudest
        .filter(|(_, level)| level.abs() > 0.01)
        .ok_or_else(|| AvError::own("measure the delay of a filter", "no click came out"))?;
    let at = i64::try_from(at).unwrap_or(0) - wanted;
    Ok(at)
}
