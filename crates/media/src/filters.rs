//! Picture steps in the libraries' notation.

use std::path::Path;

use beryl_core::picture::{FieldOrder, Samples};
use beryl_core::plan::{BurnText, FramesMeant, Step};
use beryl_core::preset::{Adjustment, Deblocking, DeinterlaceDegree, DeinterlacePer, Denoising, RateConversion};

use crate::supplies::Supplies;

/// The filters of a chain of steps, separated by commas.
pub(crate) fn text(steps: &[Step], supplies: &Supplies) -> String {
    let filter = |step: &Step| match step {
        Step::Resample { from, to, width, height, .. } => resample(from, to, (*width, *height)),
        step => step_text(step, supplies),
    };
    steps.iter().filter_map(filter).collect::<Vec<_>>().join(",")
}

/// The filter of a step; nothing for steps that this crate does by itself, and for those whose supplies are missing.
pub(crate) fn step_text(step: &Step, supplies: &Supplies) -> Option<String> {
    Some(match step {
        Step::Film { .. }
        | Step::EvenFilm { .. }
        | Step::Speed { .. }
        | Step::Tone { .. }
        | Step::Recolour { .. }
        | Step::Rearrange { .. }
        | Step::Resample { .. }
        | Step::Pad { .. }
        | Step::Subtitles { .. }
        | Step::BurnIn(_)
        | Step::Watermark(_)
        | Step::Earlier => return None,
        Step::LookUp { name } => {
            let (file, is_cube) = supplies.lut(name)?;
            let filter = if is_cube { "lut3d" } else { "lut1d" };
            let interpolation = if is_cube { "tetrahedral" } else { "linear" };
            format!("{filter}=file={}:interp={interpolation}", escaped(file))
        }
        Step::Deinterlace { order, frames, per, degree } => deinterlace(*order, *frames, *per, *degree),
        Step::Mirror => "hflip".to_owned(),
        Step::Turn { degrees: 90 } => "transpose=dir=clock".to_owned(),
        Step::Turn { degrees: 270 } => "transpose=dir=cclock".to_owned(),
        Step::Turn { .. } => "hflip,vflip".to_owned(),
        Step::Crop { x, y, width, height } => format!("crop=w={width}:h={height}:x={x}:y={y}:exact=1"),
        Step::ConstantRate { rate, by } => {
            let rate = format!("{}/{}", rate.numerator(), rate.denominator());
            match by {
                RateConversion::DropRepeat => format!("fps=fps={rate}:round=near"),
                RateConversion::Blend => format!("framerate=fps={rate}"),
                RateConversion::Motion => {
                    format!("minterpolate=fps={rate}:mi_mode=mci:mc_mode=aobmc:me_mode=bidir:vsbmc=1")
                }
            }
        }
        Step::Deblock { degree: Deblocking::FlatParts } => "deblock=filter=weak:block=8".to_owned(),
        Step::Deblock { degree: Deblocking::WholePicture } => "deblock=filter=strong:block=8".to_owned(),
        Step::Deblock { degree: Deblocking::Off } | Step::Denoise { degree: Denoising::Off } => return None,
        // In the spectrum of small blocks noise lies even and detail does not, whether it moves or stands. Several
        // threads would add up the borders of blocks at the same time, and give other pictures each time.
        Step::Denoise { degree: Denoising::Camera } => "fftdnoiz=sigma=4:block=32:overlap=0.5:threads=1".to_owned(),
        Step::Denoise { degree: Denoising::Tape } => "fftdnoiz=sigma=9:block=32:overlap=0.5:threads=1".to_owned(),
        Step::Denoise { degree: Denoising::Night } => "fftdnoiz=sigma=20:block=32:overlap=0.5:threads=1".to_owned(),
        Step::Adjust { adjustment, levels, neutral } => adjust(*adjustment, *levels, *neutral),
        Step::Grey => "lutyuv=u=(minval+maxval)/2:v=(minval+maxval)/2".to_owned(),
    })
}

/// Size, samples and colour in one, by the library of this name, which takes every code for what both sides say it is.
/// Splines of three lobes draw pictures at another size, made wider where they become smaller; what becomes 8 bits is
/// dithered by handing each error on to the neighbours. A size of nought is that of what goes in. Nothing where colour
/// is of a kind that nobody can convert, which plans see to.
pub(crate) fn resample(from: &Samples, to: &Samples, (width, height): (u32, u32)) -> Option<String> {
    let dither = if from.is_dithered_in(to) { "error_diffusion" } else { "none" };
    let conversion = from.conversion(to).ok()?;
    let side = |samples: &Samples, numbers: [u8; 3], names: [&str; 5]| {
        let [primaries, transfer, matrix] = numbers;
        let range = if samples.space.full_range { "full" } else { "limited" };
        let values =
            [matrix.to_string(), primaries.to_string(), transfer.to_string(), range.to_owned(), samples.chroma.word().to_owned()];
        names.iter().zip(values).map(|(name, value)| format!("{name}={value}")).collect::<Vec<_>>().join(":")
    };
    Some(format!(
        "zscale=w={width}:h={height}:filter=spline36:dither={dither}:agamma=false:{}:{},format=pix_fmts={}",
        side(from, conversion.from, ["min", "pin", "tin", "rin", "cin"]),
        side(to, conversion.to, ["m", "p", "t", "r", "c"]),
        to.pixel_format
    ))
}

/// What writes subtitles into clear pictures.
pub(crate) fn subtitles(file: &Path, font: &Path) -> String {
    let folder = font.parent().unwrap_or(font);
    format!("subtitles=filename={}:fontsdir={}:alpha=1", escaped(file), escaped(folder))
}

/// What a noted frame calls the text that is written into it.
pub(crate) const BURNT_TEXT: &str = "beryl.text";

/// What writes the text that frames bear into them.
pub(crate) fn burnt(text: &BurnText, font: &Path) -> String {
    let height = text.height;
    // Letters take about seven tenths of a line.
    let size = (height * 7 / 10).max(6);
    let place = if text.above { format!("{height}/2") } else { format!("h-{height}*3/2") };
    format!(
        "drawtext=fontfile={}:fontsize={size}:fontcolor=white:box=1:boxcolor=black@0.6:boxborderw={}:x=(w-text_w)/2:y={place}:text='%{{metadata\\:{BURNT_TEXT}}}'",
        escaped(font),
        (size / 3).max(2)
    )
}

/// A path as a value in the libraries' notation: once for the list of options, once for the graph.
fn escaped(path: &Path) -> String {
    let once = |text: &str, special: &[char]| {
        text.chars().flat_map(|letter| special.contains(&letter).then_some('\\').into_iter().chain([letter])).collect::<String>()
    };
    once(&once(&path.to_string_lossy(), &['\\', '\'', ':']), &['\\', '\'', '[', ']', ',', ';'])
}

fn deinterlace(order: FieldOrder, frames: FramesMeant, per: DeinterlacePer, degree: DeinterlaceDegree) -> String {
    let filter = match degree {
        DeinterlaceDegree::Proxy => "yadif",
        DeinterlaceDegree::Delivery => "bwdif",
    };
    let mode = match per {
        DeinterlacePer::Frame => "send_frame",
        DeinterlacePer::Field => "send_field",
    };
    let parity = if order == FieldOrder::BottomFirst { "bff" } else { "tff" };
    // Marked frames are those whose flag says that they have fields.
    let which = match frames {
        FramesMeant::All => "all",
        FramesMeant::Combed | FramesMeant::Marked => "interlaced",
    };
    format!("{filter}=mode={mode}:parity={parity}:deint={which}")
}

/// Luma on a scale from 0 (black) to 1 (white): spread around the middle, lifted, bent by gamma.
fn adjust(adjustment: Adjustment, (black, white): (u32, u32), neutral: u32) -> String {
    let share = |hundredths: f64| hundredths / 100.0;
    let contrast = share(f64::from(adjustment.contrast));
    let lift = 0.5 + share(f64::from(adjustment.brightness));
    let bend = 100.0 / f64::from(adjustment.gamma.max(1));
    let saturation = share(f64::from(adjustment.saturation));
    let luma =
        format!("{black}+{reach}*pow(clip(((val-{black})/{reach}-0.5)*{contrast}+{lift},0,1),{bend})", reach = white - black);
    let chroma = format!("clip((val-{neutral})*{saturation}+{neutral},minval,maxval)");
    format!("lutyuv=y='{luma}':u='{chroma}':v='{chroma}'")
}
