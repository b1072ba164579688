//! What there is to see in *The Kiln Year*: each scene drawn for one moment, in seconds.

use std::f32::consts::TAU;

use crate::canvas::{Canvas, Ink, chance};

const CLAY: Ink = (0.62, 0.40, 0.28, 1.0);
const SKIN: Ink = (0.80, 0.62, 0.48, 1.0);
const SOOT: Ink = (0.10, 0.08, 0.08, 1.0);

/// One of the scenes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scene {
    /// A glowing kiln, its keeper, tiles on their racks.
    Firing,
    /// Hands that form a bowl on a wheel.
    Wheel,
    /// Visitors walk past the works on an open day.
    OpenDay,
    /// The press hall of the seventies: pistons and a pan.
    PressHall,
    /// A cinema trailer: slow pan over the pit, large letters.
    Trailer,
    /// The reel of the chimney's last brick.
    Chimney,
    /// Somebody talks, half in profile.
    Interview,
    /// The glaze-recipe database on a screen.
    Database,
    /// Dishes on the conveyor of the glaze kitchen.
    Glaze,
}

/// Draws `scene` as it is at `time`.
pub fn draw(scene: Scene, canvas: &mut Canvas, time: f32) {
    match scene {
        Scene::Firing => firing(canvas, time),
        Scene::Wheel => wheel(canvas, time),
        Scene::OpenDay => open_day(canvas, time),
        Scene::PressHall => press_hall(canvas, time),
        Scene::Trailer => trailer(canvas, time),
        Scene::Chimney => chimney(canvas, time),
        Scene::Interview => interview(canvas, time),
        Scene::Database => database(canvas, time),
        Scene::Glaze => glaze(canvas, time),
    }
}

fn wave(time: f32, period: f32, phase: f32) -> f32 {
    (time / period * TAU + phase).sin()
}

/// A wall of tiles whose pattern is fine enough to tell a good encoder from a bad one.
fn tile_wall(canvas: &mut Canvas, shift: f32, size: f32, light: f32) {
    let columns = whole(canvas.aspect() / size) + 3;
    for row in 0..whole(1.0 / size) + 1 {
        for column in 0..columns {
            let x = column as f32 * size - shift.rem_euclid(size) - size;
            let y = row as f32 * size;
            let world = column.wrapping_add(whole((shift / size).floor().abs()));
            let tone = 0.28 + 0.10 * chance(world.wrapping_mul(31).wrapping_add(row));
            let ink = (tone * light, tone * 0.8 * light, tone * 0.72 * light, 1.0);
            canvas.rect(x, y, size * 0.94, size * 0.94, ink);
            if (world + row) % 2 == 0 {
                let (middle, thin) = (size * 0.47, size * 0.06);
                let glazed = (0.5 * light, 0.55 * light, 0.6 * light, 1.0);
                canvas.rect(x + middle - thin, y + thin, 2.0 * thin, 2.0 * middle - 2.0 * thin, glazed);
                canvas.rect(x + thin, y + middle - thin, 2.0 * middle - 2.0 * thin, 2.0 * thin, glazed);
            }
        }
    }
}

fn whole(value: f32) -> u32 {
    // Small counts of things to draw.
    #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)]
    let count = value.clamp(0.0, 1e6) as u32;
    count
}

/// A person seen from the side or front: head, body, arms and legs that swing.
fn person(canvas: &mut Canvas, x: f32, foot: f32, height: f32, coat: Ink, step: f32) {
    let unit = height / 8.0;
    let hip = foot - unit * 4.0;
    for (side, swing) in [(-1.0, step), (1.0, -step)] {
        canvas.line(
            &[(x + side * unit * 0.3, hip), (x + swing * unit, foot - unit * 2.0), (x + swing * unit * 1.6, foot)],
            unit * 0.7,
            (coat.0 * 0.5, coat.1 * 0.5, coat.2 * 0.5, 1.0),
        );
    }
    canvas.shape(
        &[
            (x - unit, foot - unit * 6.4),
            (x + unit, foot - unit * 6.4),
            (x + unit * 1.2, hip + unit * 0.6),
            (x - unit * 1.2, hip + unit * 0.6),
        ],
        coat,
    );
    for (side, swing) in [(-1.0, -step), (1.0, step)] {
        let hand = (x + side * unit * 1.2 + swing * unit * 1.4, hip - unit * 0.2);
        canvas.line(
            &[(x + side * unit, foot - unit * 6.1), (x + side * unit * 1.4 + swing * unit * 0.5, foot - unit * 4.9), hand],
            unit * 0.55,
            coat,
        );
        canvas.oval(hand.0, hand.1, unit * 0.35, unit * 0.35, SKIN);
    }
    canvas.oval(x, foot - unit * 7.2, unit * 0.7, unit * 0.85, SKIN);
    canvas.oval(x, foot - unit * 7.6, unit * 0.75, unit * 0.5, SOOT);
}

fn firing(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.10, 0.07, 0.07, 1.0), (0.04, 0.03, 0.03, 1.0));
    tile_wall(canvas, time * 0.04, 0.09, 0.45 + 0.08 * wave(time, 0.7, 0.0));
    let heat = 0.75 + 0.12 * wave(time, 0.45, 0.3) + 0.08 * wave(time, 0.17, 1.0);
    let middle = canvas.aspect() * 0.42;
    canvas.shape(
        &[
            (middle - 0.36, 1.0),
            (middle - 0.36, 0.42),
            (middle - 0.2, 0.22),
            (middle + 0.2, 0.22),
            (middle + 0.36, 0.42),
            (middle + 0.36, 1.0),
        ],
        (0.22, 0.12, 0.09, 1.0),
    );
    canvas.glow(middle, 0.66, 0.85, (1.0, 0.45, 0.10, 0.55 * heat));
    canvas.oval(middle, 0.66, 0.22, 0.24, (1.0, 0.56 * heat, 0.14, 1.0));
    canvas.oval(middle, 0.70, 0.15, 0.17, (1.0, 0.86, 0.45 * heat, 1.0));
    for rack in 0..6_u32 {
        let y = 0.56 + rack as f32 * 0.05;
        canvas.line(&[(middle - 0.16, y), (middle + 0.16, y)], 0.006, (0.35, 0.10, 0.03, 0.9));
    }
    for spark in 0..70_u32 {
        let life = (time * (0.25 + 0.5 * chance(spark)) + chance(spark * 7 + 1)).fract();
        let x = middle + (chance(spark * 3) - 0.5) * 0.4 + 0.05 * wave(time, 0.9, chance(spark) * 6.0) * life;
        canvas.oval(x, 0.75 - life * 0.75, 0.0035, 0.0035, (1.0, 0.8 - 0.4 * life, 0.3, 1.0 - life));
    }
    let lean = 0.15 * wave(time, 2.4, 0.0);
    person(canvas, canvas.aspect() * 0.76 + 0.06 * lean, 0.98, 0.62, (0.30, 0.34, 0.40, 1.0), 0.4 + lean);
    let hand = (canvas.aspect() * 0.66 + 0.08 * wave(time, 1.6, 0.0), 0.72 + 0.03 * wave(time, 0.8, 0.0));
    canvas.line(&[(canvas.aspect() * 0.76, 0.64), hand, (middle + 0.2, 0.70)], 0.012, SOOT);
}

fn wheel(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.34, 0.33, 0.30, 1.0), (0.20, 0.17, 0.15, 1.0));
    let middle = canvas.aspect() / 2.0;
    tile_wall(canvas, 0.1, 0.12, 0.7);
    canvas.oval(middle, 0.86, 0.52, 0.10, (0.25, 0.24, 0.24, 1.0));
    for spoke in 0..24_u32 {
        let turn = time * 5.0 + spoke as f32 / 24.0 * TAU;
        canvas.line(&[(middle, 0.86), (middle + 0.5 * turn.cos(), 0.86 + 0.09 * turn.sin())], 0.004, (0.45, 0.44, 0.42, 1.0));
    }
    let rise = 0.30 + 0.05 * wave(time, 5.0, 0.0);
    for ring in 0..40_u32 {
        let part = ring as f32 / 40.0;
        let radius = 0.14 + 0.10 * (part * 2.2).sin().abs() + 0.006 * wave(time, 0.33, part * 20.0);
        let tone = 0.8 + 0.2 * wave(time, 0.33, part * 40.0);
        canvas.oval(middle, 0.84 - part * rise, radius, 0.035, (CLAY.0 * tone, CLAY.1 * tone, CLAY.2 * tone, 1.0));
    }
    for side in [-1.0_f32, 1.0] {
        let wrist = (middle + side * 0.55, 0.62 + 0.02 * wave(time, 1.1, side));
        let palm = (middle + side * (0.26 + 0.02 * wave(time, 0.9, side)), 0.70 + 0.03 * wave(time, 1.4, side));
        canvas.line(&[(middle + side * 0.9, 0.52), wrist, palm], 0.10, SKIN);
        for finger in 0..4_u32 {
            let reach = 0.05 + 0.01 * wave(time, 0.8, finger as f32);
            let y = palm.1 - 0.045 + finger as f32 * 0.03;
            canvas.line(
                &[(palm.0, y), (palm.0 - side * reach, y + 0.005)],
                0.024,
                (SKIN.0 * 0.95, SKIN.1 * 0.92, SKIN.2 * 0.9, 1.0),
            );
        }
    }
}

fn open_day(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.55, 0.63, 0.68, 1.0), (0.36, 0.37, 0.28, 1.0));
    canvas.rect(0.08, 0.20, 0.45, 0.42, (0.46, 0.24, 0.17, 1.0));
    canvas.rect(0.16, 0.06, 0.09, 0.2, (0.40, 0.20, 0.15, 1.0));
    for window in 0..6_u32 {
        canvas.rect(0.11 + window as f32 * 0.07, 0.32, 0.04, 0.12, (0.20, 0.24, 0.28, 1.0));
    }
    canvas.rect(0.62, 0.30, canvas.aspect() - 0.70, 0.30, (0.36, 0.37, 0.32, 1.0));
    canvas.text(0.66, 0.34, 0.06, "OPEN DAY", (0.9, 0.85, 0.6, 1.0));
    for visitor in 0..9_u32 {
        let pace = 0.10 + 0.22 * chance(visitor * 5);
        let direction = if visitor % 2 == 0 { 1.0 } else { -1.0 };
        let way = canvas.aspect() + 0.3;
        let x = (direction * pace * time + chance(visitor * 11) * way).rem_euclid(way) - 0.15;
        let coat =
            (0.25 + 0.5 * chance(visitor * 3), 0.25 + 0.4 * chance(visitor * 3 + 1), 0.3 + 0.4 * chance(visitor * 3 + 2), 1.0);
        person(
            canvas,
            x,
            0.82 + 0.02 * visitor as f32,
            0.40 + 0.02 * visitor as f32,
            coat,
            wave(time, 0.75 - pace, chance(visitor) * 6.0),
        );
    }
    // A flag in the wind and a wheel that turns fast: what combs most.
    let pole = canvas.aspect() - 0.2;
    canvas.line(&[(pole, 0.08), (pole, 0.8)], 0.012, (0.85, 0.85, 0.85, 1.0));
    let edge: Vec<(f32, f32)> =
        (0..=20).map(|part| (pole - part as f32 * 0.012, 0.10 + 0.02 * wave(time, 0.5, part as f32 * 0.5))).collect();
    let low = edge.iter().rev().map(|(x, y)| (*x, y + 0.12));
    canvas.shape(&edge.iter().copied().chain(low).collect::<Vec<_>>(), (0.75, 0.2, 0.2, 1.0));
    for spoke in 0..8_u32 {
        let turn = time * 4.0 + spoke as f32 / 8.0 * TAU;
        canvas.line(&[(0.35, 0.75), (0.35 + 0.14 * turn.cos(), 0.75 + 0.14 * turn.sin())], 0.012, (0.12, 0.10, 0.10, 1.0));
    }
}

fn press_hall(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.40, 0.36, 0.26, 1.0), (0.20, 0.17, 0.12, 1.0));
    let pan = time * 0.10;
    for pillar in 0..10_u32 {
        let x = pillar as f32 * 0.32 - pan;
        canvas.rect(x, 0.0, 0.05, 1.0, (0.26, 0.22, 0.16, 1.0));
        canvas.rect(x + 0.09, 0.10, 0.16, 0.2, (0.78, 0.72, 0.52, 1.0));
    }
    for press in 0..5_u32 {
        let x = 0.18 + press as f32 * 0.46 - pan;
        let stroke = 0.5 + 0.5 * wave(time, 1.2, press as f32 * 1.3);
        canvas.rect(x - 0.13, 0.36, 0.26, 0.06, (0.18, 0.22, 0.20, 1.0));
        canvas.rect(x - 0.02, 0.40, 0.04, 0.14 + 0.16 * stroke, (0.55, 0.55, 0.52, 1.0));
        canvas.rect(x - 0.10, 0.52 + 0.16 * stroke, 0.20, 0.05, (0.32, 0.32, 0.30, 1.0));
        canvas.rect(x - 0.12, 0.74, 0.24, 0.26, (0.20, 0.18, 0.14, 1.0));
        canvas.rect(x - 0.08, 0.715, 0.16, 0.025, CLAY);
    }
    person(canvas, 0.25 + time * 0.09, 0.99, 0.55, (0.36, 0.40, 0.46, 1.0), wave(time, 0.6, 0.0));
    person(canvas, canvas.aspect() - 0.3, 0.97, 0.5, (0.45, 0.35, 0.25, 1.0), 0.6 * wave(time, 1.2, 1.0));
}

fn trailer(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.16, 0.20, 0.27, 1.0), (0.32, 0.26, 0.22, 1.0));
    for layer in 0..4_u32 {
        let depth = layer as f32 / 4.0;
        let shift = time * (0.02 + 0.06 * depth);
        let mut ridge: Vec<(f32, f32)> = (0..=60)
            .map(|part| {
                let x = part as f32 / 60.0 * canvas.aspect();
                let world = x + shift;
                (x, 0.36 + depth * 0.16 + 0.05 * (world * 3.1 + depth * 9.0).sin() + 0.02 * (world * 11.0 + depth * 4.0).sin())
            })
            .collect();
        ridge.extend([(canvas.aspect(), 1.0), (0.0, 1.0)]);
        let tone = 0.34 - 0.07 * layer as f32;
        canvas.shape(&ridge, (tone * 1.1, tone * 0.9, tone * 0.75, 1.0));
    }
    canvas.glow(canvas.aspect() * 0.7, 0.34, 0.5, (1.0, 0.75, 0.4, 0.35));
    let title = "THE KILN YEAR";
    let shown = whole(time * 2.2).min(13) as usize;
    canvas.text(canvas.aspect() / 2.0 - 0.52, 0.44, 0.08, &title[..shown], (0.94, 0.90, 0.82, 1.0));
    // The bars of the cinema picture: 2.39 in the frame.
    let bar = (1.0 - canvas.aspect() / 2.39) / 2.0;
    canvas.rect(0.0, 0.0, canvas.aspect(), bar, (0.0, 0.0, 0.0, 1.0));
    canvas.rect(0.0, 1.0 - bar, canvas.aspect(), bar, (0.0, 0.0, 0.0, 1.0));
}

fn chimney(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.72, 0.68, 0.62, 1.0), (0.42, 0.39, 0.35, 1.0));
    let middle = canvas.aspect() / 2.0 + 0.01 * wave(time, 3.0, 0.0);
    for row in 0..44_u32 {
        for brick in 0..6_u32 {
            let half = 0.10 + row as f32 * 0.0018;
            let width = half / 3.0;
            let y = 0.12 + row as f32 * 0.021;
            let x = middle - half + brick as f32 * width + if row % 2 == 0 { width / 2.0 } else { 0.0 };
            let tone = 0.28 + 0.2 * chance(row * 8 + brick);
            canvas.rect(x, y, width * 0.92, 0.018, (tone, tone * 0.97, tone * 0.92, 1.0));
        }
    }
    for puff in 0..26_u32 {
        let life = (time * 0.18 + chance(puff * 13)).fract();
        canvas.oval(
            middle + life * 0.5 + 0.04 * wave(time, 2.0, puff as f32),
            0.12 - life * 0.14,
            0.02 + 0.09 * life,
            0.02 + 0.06 * life,
            (0.25, 0.24, 0.23, 0.5 * (1.0 - life)),
        );
    }
    person(canvas, middle - 0.35, 0.98, 0.30, (0.30, 0.29, 0.28, 1.0), wave(time, 0.9, 0.0));
    person(canvas, middle + 0.42 - time * 0.03, 0.98, 0.28, (0.4, 0.38, 0.36, 1.0), wave(time, 0.8, 1.0));
}

fn interview(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.20, 0.27, 0.26, 1.0), (0.12, 0.14, 0.14, 1.0));
    for shelf in 0..4_u32 {
        let y = 0.16 + shelf as f32 * 0.2;
        canvas.rect(canvas.aspect() * 0.5, y, canvas.aspect() * 0.48, 0.012, (0.32, 0.26, 0.20, 1.0));
        for bowl in 0..7_u32 {
            let x = canvas.aspect() * 0.54 + bowl as f32 * 0.11;
            let tone = 0.35 + 0.3 * chance(shelf * 9 + bowl);
            canvas.oval(x, y - 0.03, 0.035, 0.03, (tone * 0.7, tone, tone * 0.95, 1.0));
        }
    }
    let sway = 0.012 * wave(time, 4.0, 0.0);
    let x = canvas.aspect() * 0.32 + sway;
    canvas.shape(&[(x - 0.30, 1.0), (x - 0.22, 0.70), (x, 0.62), (x + 0.22, 0.70), (x + 0.30, 1.0)], (0.35, 0.20, 0.22, 1.0));
    canvas.rect(x - 0.05, 0.52, 0.1, 0.14, (SKIN.0 * 0.9, SKIN.1 * 0.88, SKIN.2 * 0.86, 1.0));
    canvas.oval(x, 0.40, 0.135, 0.18, SKIN);
    canvas.oval(x - 0.02, 0.27, 0.15, 0.09, (0.55, 0.54, 0.52, 1.0));
    let blink = if time.rem_euclid(3.1) < 0.12 { 0.002 } else { 0.012 };
    for side in [-1.0_f32, 1.0] {
        canvas.oval(x + side * 0.05, 0.39, 0.018, blink, SOOT);
    }
    let open = 0.008 + 0.018 * (wave(time, 0.31, 0.0) * wave(time, 1.9, 0.4)).abs();
    canvas.oval(x, 0.48, 0.035, open, (0.45, 0.16, 0.16, 1.0));
    let hand = (x + 0.22 + 0.05 * wave(time, 1.7, 0.0), 0.80 + 0.05 * wave(time, 1.3, 0.0));
    canvas.line(&[(x + 0.2, 0.95), hand], 0.06, SKIN);
    for finger in 0..4_u32 {
        let spread = (finger as f32 - 1.5) * 0.018;
        canvas.line(&[hand, (hand.0 + 0.05 + 0.01 * wave(time, 0.7, finger as f32), hand.1 - 0.05 + spread)], 0.016, SKIN);
    }
    canvas.rect(0.05, 0.86, 0.52, 0.08, (0.0, 0.0, 0.0, 0.45));
    canvas.text(0.07, 0.875, 0.045, "ODILE, GLAZER", (0.95, 0.95, 0.92, 1.0));
}

fn database(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.93, 0.94, 0.95, 1.0), (0.90, 0.91, 0.93, 1.0));
    canvas.rect(0.0, 0.0, canvas.aspect(), 0.07, (0.22, 0.26, 0.31, 1.0));
    canvas.text(0.02, 0.02, 0.032, "GLAZE RECIPES", (0.95, 0.95, 0.95, 1.0));
    let scroll = (time / 2.5).floor() * 3.0;
    for row in 0..16_u32 {
        let y = 0.10 + row as f32 * 0.055;
        let number = row + whole(scroll);
        let tone = if row % 2 == 0 { 0.88 } else { 0.94 };
        canvas.rect(0.02, y, canvas.aspect() - 0.04, 0.05, (tone, tone, tone + 0.01, 1.0));
        canvas.text(0.04, y + 0.012, 0.026, &format!("{:04}", 1200 + number * 7), (0.2, 0.2, 0.25, 1.0));
        let names = ["Salt blue", "Ash white", "Iron brown", "Sea green", "Copper red", "Slate"];
        canvas.text(0.22, y + 0.012, 0.026, names[number as usize % names.len()], (0.15, 0.15, 0.2, 1.0));
        canvas.text(0.62, y + 0.012, 0.026, &format!("{} C", 980 + number * 13 % 300), (0.15, 0.15, 0.2, 1.0));
        canvas.rect(
            0.95,
            y + 0.01,
            0.03 + 0.3 * chance(number),
            0.03,
            (0.35 + 0.4 * chance(number * 2), 0.5, 0.45 + 0.4 * chance(number * 5), 1.0),
        );
    }
    let typed = "copper red 1060".chars().take(whole(time * 1.4) as usize % 16).collect::<String>();
    canvas.rect(canvas.aspect() - 0.62, 0.012, 0.58, 0.046, (1.0, 1.0, 1.0, 1.0));
    canvas.text(canvas.aspect() - 0.60, 0.022, 0.028, &typed, (0.1, 0.1, 0.1, 1.0));
    let (x, y) = (canvas.aspect() * (0.5 + 0.3 * wave(time, 5.0, 0.0)), 0.5 + 0.3 * wave(time, 3.7, 1.0));
    canvas.shape(&[(x, y), (x, y + 0.035), (x + 0.009, y + 0.027), (x + 0.025, y + 0.027)], (0.0, 0.0, 0.0, 1.0));
}

fn glaze(canvas: &mut Canvas, time: f32) {
    canvas.ground((0.50, 0.53, 0.50, 1.0), (0.38, 0.40, 0.38, 1.0));
    tile_wall(canvas, 0.0, 0.075, 1.1);
    canvas.rect(0.0, 0.70, canvas.aspect(), 0.08, (0.26, 0.27, 0.27, 1.0));
    for roller in 0..30_u32 {
        let x = (roller as f32 * 0.08 + time * 0.16).rem_euclid(canvas.aspect() + 0.08) - 0.04;
        canvas.oval(x, 0.80, 0.02, 0.02, (0.18, 0.18, 0.18, 1.0));
    }
    for dish in 0..8_u32 {
        let way = canvas.aspect() + 0.4;
        let x = (dish as f32 * way / 8.0 + time * 0.16).rem_euclid(way) - 0.2;
        let under_spray = (x - canvas.aspect() * 0.5).abs() < 0.12;
        let ink = if x > canvas.aspect() * 0.5 { (0.30, 0.52, 0.54, 1.0) } else { CLAY };
        canvas.oval(x, 0.67, 0.10, 0.035, ink);
        canvas.oval(x, 0.66, 0.075, 0.022, (ink.0 * 1.2, ink.1 * 1.2, ink.2 * 1.2, 1.0));
        if under_spray {
            for drop in 0..40_u32 {
                let fall = (time * 2.0 + chance(drop)).fract();
                canvas.oval(
                    canvas.aspect() * 0.5 + (chance(drop * 3) - 0.5) * 0.2 * fall,
                    0.36 + 0.3 * fall,
                    0.004,
                    0.007,
                    (0.45, 0.72, 0.74, 0.8),
                );
            }
        }
    }
    canvas.rect(canvas.aspect() * 0.5 - 0.03, 0.0, 0.06, 0.36, (0.30, 0.31, 0.32, 1.0));
    person(canvas, canvas.aspect() * 0.86, 0.99, 0.6, (0.55, 0.58, 0.56, 1.0), 0.3 * wave(time, 1.5, 0.0));
}
