//! What outputs of one source have in common: each picture step that several begin with is done once.

use crate::plan::Step;

/// A chain of steps that is worked off once, for everything that hangs on it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stage {
    /// The stage whose pictures it takes; nothing for the decoder's own.
    pub parent: Option<usize>,
    /// The steps, which may be none.
    pub steps: Vec<Step>,
    /// The outputs (by their place in the list) that take its pictures as they are.
    pub outputs: Vec<usize>,
}

/// Arranges the step chains of several outputs as a tree of stages, parents before children.
///
/// Every step that stands at the same place behind the same steps in several chains is done once.
#[must_use]
pub fn share_steps(chains: &[&[Step]]) -> Vec<Stage> {
    let mut stages = Vec::new();
    let all: Vec<usize> = (0..chains.len()).collect();
    grow(chains, &all, 0, None, &mut stages);
    stages
}

/// Adds the stages of the outputs in `members`, which agree in their first `depth` steps.
fn grow(chains: &[&[Step]], members: &[usize], depth: usize, parent: Option<usize>, stages: &mut Vec<Stage>) {
    let mut groups: Vec<(Option<&Step>, Vec<usize>)> = Vec::new();
    for &member in members {
        let step = chains[member].get(depth);
        match groups.iter_mut().find(|group| group.0 == step) {
            Some(group) => group.1.push(member),
            None => groups.push((step, vec![member])),
        }
    }
    for (step, members) in groups {
        if step.is_none() {
            stages.push(Stage { parent, steps: Vec::new(), outputs: members });
            continue;
        }
        let shared = shared_length(chains, &members, depth);
        let steps = chains[members[0]][depth..shared].to_vec();
        let (ending, going_on): (Vec<usize>, Vec<usize>) = members.iter().partition(|member| chains[**member].len() == shared);
        let place = stages.len();
        stages.push(Stage { parent, steps, outputs: ending });
        if !going_on.is_empty() {
            grow(chains, &going_on, shared, Some(place), stages);
        }
    }
}

fn shared_length(chains: &[&[Step]], members: &[usize], from: usize) -> usize {
    let first = chains[members[0]];
    (from..first.len())
        .find(|&depth| members.iter().any(|member| chains[*member].get(depth) != Some(&first[depth])))
        .unwrap_or(first.len())
}
