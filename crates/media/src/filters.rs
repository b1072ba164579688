//! Picture steps in the libraries' notation.

use std::path::Path;

use beryl_core::plan::{BurnText, ColourSpace, FramesMeant, Step, WatermarkPlan};
use beryl_core::preset::{Adjustment, Corner, Deblocking, DeinterlaceDegree, DeinterlacePer, Denoising, RateConversion};
use beryl_core::reading::FieldOrder;

use crate::supplies::Supplies;

/// The filters of a chain of steps, separated by commas.
pub(crate) fn text(steps: &[Step], supplies: &Supplies) -> String {
    steps.iter().filter_map(|step| step_text(step, supplies)).collect::<Vec<_>>().join(",")
}

/// The filter of a step; nothing for steps that this crate does by itself, and for those whose supplies are missing.
pub(crate) fn step_text(step: &Step, supplies: &Supplies) -> Option<String> {
    Some(match step {
        Step::Film { .. } | Step::EvenFilm { .. } | Step::Speed { .. } | Step::Watermark(_) => return None,
        Step::ToneMap { from, peak, pixel_format } => format!(
            "zscale={}:agamma=false:t=linear:npl={WHITE}:p=bt709:m=gbr:r=full,format=pix_fmts=gbrpf32le,tonemap=tonemap=mobius:peak={:.4}:desat=0,\
             zscale=agamma=false:min=gbr:rin=full:tin=linear:pin=bt709:t=bt709:p=bt709:m=bt709:r=limited,format=pix_fmts={pixel_format}",
            space_in(from),
            f64::from(*peak) / f64::from(WHITE)
        ),
        Step::Lut { name, from, pixel_format } => {
            let (file, is_cube) = supplies.lut(name)?;
            let filter = if is_cube { "lut3d" } else { "lut1d" };
            let interpolation = if is_cube { "tetrahedral" } else { "linear" };
            format!(
                "zscale=min={}:rin={}:m=gbr:r=full,format=pix_fmts=gbrpf32le,{filter}=file={}:interp={interpolation},\
                 zscale=min=gbr:rin=full:m=bt709:r=limited,format=pix_fmts={pixel_format}",
                from.matrix,
                range(from.full_range),
                escaped(file)
            )
        }
        Step::Convert { from, to, pixel_format } if from.matrix == to.matrix && from.primaries == to.primaries => {
            format!("zscale=rin={}:r={},format=pix_fmts={pixel_format}", range(from.full_range), range(to.full_range))
        }
        Step::Convert { from, to, pixel_format } => format!(
            "zscale={}:agamma=false:p={}:t={}:m={}:r={},format=pix_fmts={pixel_format}",
            space_in(from),
            to.primaries,
            to.transfer,
            to.matrix,
            range(to.full_range)
        ),
        Step::Subtitles { .. } => {
            let (file, font) = (supplies.subtitles(step)?, supplies.font()?);
            let folder = font.parent().unwrap_or(font);
            format!("subtitles=filename={}:fontsdir={}", escaped(file), escaped(folder))
        }
        Step::BurnIn(text) => burn(text, supplies.font()?),
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
        // In the spectrum of small blocks noise lies even and detail does not, whether it moves or stands.
        Step::Denoise { degree: Denoising::Camera } => "fftdnoiz=sigma=4:block=32:overlap=0.5".to_owned(),
        Step::Denoise { degree: Denoising::Tape } => "fftdnoiz=sigma=9:block=32:overlap=0.5".to_owned(),
        Step::Denoise { degree: Denoising::Night } => "fftdnoiz=sigma=20:block=32:overlap=0.5".to_owned(),
        Step::Adjust { adjustment, levels, neutral } => adjust(*adjustment, *levels, *neutral),
        Step::Grey => "lutyuv=u=(minval+maxval)/2:v=(minval+maxval)/2".to_owned(),
        Step::Scale { width, height, pixel_format, fields_apart, to_matrix, to_range } => {
            let mut text = format!(
                "scale=w={width}:h={height}:flags=bicubic+accurate_rnd+full_chroma_int:interl={}",
                u8::from(*fields_apart)
            );
            if let Some(matrix) = to_matrix {
                text.push_str(&format!(":out_color_matrix={matrix}"));
            }
            if let Some(range) = to_range {
                text.push_str(&format!(":out_range={range}"));
            }
            format!("{text},format=pix_fmts={pixel_format}")
        }
        Step::Pad { width, height, x, y } => format!("pad=w={width}:h={height}:x={x}:y={y}:color=black"),
    })
}

/// The light of diffuse white in pictures of a high dynamic range, in cd/m² (ITU-R BT.2408).
const WHITE: u32 = 203;

/// What a noted frame calls the text that is written into it.
pub(crate) const BURNT_TEXT: &str = "beryl.text";

fn burn(text: &BurnText, font: &Path) -> String {
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

/// Forms in which pictures can be laid over each other, with that of what is laid over.
const LAID_OVER: [(&str, &str, &str); 5] = [
    ("yuv420p10le", "yuv420p10", "yuva420p10le"),
    ("yuv422p10le", "yuv422p10", "yuva422p10le"),
    ("yuv422p", "yuv422", "yuva422p"),
    ("yuv444p", "yuv444", "yuva444p"),
    ("yuv420p", "yuv420", "yuva420p"),
];

/// What lays a picture (the second input) over others of this pixel format.
pub(crate) fn watermark(mark: &WatermarkPlan, pixel_format: &str) -> String {
    let WatermarkPlan { width, margin, opacity, matrix, .. } = mark;
    let (x, y) = match mark.place {
        Corner::TopLeft => (format!("{margin}"), format!("{margin}")),
        Corner::TopRight => (format!("W-w-{margin}"), format!("{margin}")),
        Corner::BottomLeft => (format!("{margin}"), format!("H-h-{margin}")),
        Corner::BottomRight => (format!("W-w-{margin}"), format!("H-h-{margin}")),
        Corner::Middle => ("(W-w)/2".to_owned(), "(H-h)/2".to_owned()),
    };
    // Colour that is not left out has 8 bit here where it is finer: the nearest is taken.
    let near = LAID_OVER.iter().find(|(format, ..)| pixel_format == *format);
    let (_, form, over) = near.unwrap_or(if pixel_format.ends_with("le") { &LAID_OVER[1] } else { &LAID_OVER[4] });
    format!(
        "[in1]format=pix_fmts=rgba,colorchannelmixer=aa={:.2},\
         scale=w={width}:h=-1:flags=bicubic+accurate_rnd+full_chroma_int:out_range=tv:out_color_matrix={matrix},format=pix_fmts={over}[over];\
         [in0][over]overlay=x={x}:y={y}:eof_action=repeat:format={form},format=pix_fmts={pixel_format}",
        f64::from(*opacity) / 100.0
    )
}

fn range(full: bool) -> &'static str {
    if full { "full" } else { "limited" }
}

fn space_in(space: &ColourSpace) -> String {
    format!("min={}:pin={}:tin={}:rin={}", space.matrix, space.primaries, space.transfer, range(space.full_range))
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
