//! Picture steps in the libraries' notation.

use beryl_core::plan::Step;
use beryl_core::reading::FieldOrder;

/// The filters of a chain of steps, separated by commas.
pub(crate) fn text(steps: &[Step]) -> String {
    steps.iter().map(step_text).collect::<Vec<_>>().join(",")
}

fn step_text(step: &Step) -> String {
    match step {
        Step::Deinterlace { order } => {
            let parity = if *order == FieldOrder::BottomFirst { "bff" } else { "tff" };
            format!("bwdif=mode=send_frame:parity={parity}:deint=all")
        }
        Step::Turn { degrees: 90 } => "transpose=dir=clock".to_owned(),
        Step::Turn { degrees: 270 } => "transpose=dir=cclock".to_owned(),
        Step::Turn { .. } => "hflip,vflip".to_owned(),
        Step::Crop { x, y, width, height } => format!("crop=w={width}:h={height}:x={x}:y={y}:exact=1"),
        Step::ConstantRate { rate } => format!("fps=fps={}/{}:round=near", rate.numerator(), rate.denominator()),
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
    }
}
