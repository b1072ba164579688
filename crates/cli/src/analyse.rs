//! `beryl analyse`

use std::process::ExitCode;

use beryl_core::findings::{Evidence, Extent, Findings};
use beryl_core::problem::Problem;
use beryl_core::time::clock_text;
use beryl_worker::Engine;

use crate::arguments::AnalyseTask;
use crate::terminal::{json_line, say, source_ref};

pub(crate) async fn run(task: &AnalyseTask) -> Result<ExitCode, Problem> {
    let (reading, _) = Engine::locate()?.scan(&source_ref(&task.file, task.sequence)?, task.quick, |_| {}).await?;
    if task.json {
        json_line(&reading);
    } else {
        say!("{}", reading.facts.summary());
        if let Some(findings) = &reading.findings {
            print(findings);
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn print(findings: &Findings) {
    if let Extent::Windows { count, seconds } = findings.extent {
        say!("  a first answer, from {count} parts of {seconds} s each");
    }
    if let Some(fields) = &findings.fields {
        point("fields", &fields.words, &fields.evidence);
    }
    if let Some(bars) = &findings.bars {
        point("bars", &bars.words, &bars.evidence);
    }
    if let Some(rate) = &findings.rate {
        point("rate", &rate.words, &rate.evidence);
    }
    if let Some(look) = &findings.look {
        let words = if look.words.is_empty() { "nothing remarkable".to_owned() } else { look.words.join("; ") };
        point("picture", &words, &look.evidence);
    }
    for sound in &findings.sounds {
        point(&format!("sound of stream {}", sound.stream), &sound.words.join("; "), &sound.evidence);
    }
    for words in &findings.unseen {
        say!("  {words}");
    }
    for moment in &findings.telling {
        say!("  to look at: {} ({})", clock_text(moment.at), moment.shows);
    }
}

fn point(subject: &str, words: &str, evidence: &Evidence) {
    say!("  {subject}: {words} ({} sure)", evidence.confidence);
    for figure in &evidence.figures {
        say!("    {figure}");
    }
    for moment in &evidence.moments {
        say!("    at {}: {}", clock_text(moment.at), moment.shows);
    }
}
