//! The frame rates of the trade.

use super::rational::Rational;

/// A rate of the trade, and whether it is in use for finished material: the others are recognised only.
struct TradeRate {
    rate: Rational,
    usual: bool,
}

const fn usual(numerator: i64, denominator: i64) -> TradeRate {
    TradeRate { rate: Rational::constant(numerator, denominator), usual: true }
}

const fn rare(numerator: i64, denominator: i64) -> TradeRate {
    TradeRate { rate: Rational::constant(numerator, denominator), usual: false }
}

/// All of them, from the slowest.
const TRADE_RATES: [TradeRate; 17] = [
    usual(5, 1),
    usual(10, 1),
    rare(12_000, 1001),
    usual(12, 1),
    usual(15, 1),
    usual(24_000, 1001),
    usual(24, 1),
    usual(25, 1),
    usual(30_000, 1001),
    usual(30, 1),
    rare(48_000, 1001),
    rare(48, 1),
    usual(50, 1),
    usual(60_000, 1001),
    usual(60, 1),
    rare(100, 1),
    rare(120, 1),
];

/// All rates of the trade, from the slowest: a measured or declared rate close to one of them is meant to be it.
pub(crate) fn standard_rates() -> impl Iterator<Item = Rational> {
    TRADE_RATES.iter().map(|known| known.rate)
}

/// The rates that finished material has, from the slowest.
pub fn usual_rates() -> impl Iterator<Item = Rational> {
    TRADE_RATES.iter().filter(|known| known.usual).map(|known| known.rate)
}

/// The rate of the trade that is nearest to this one, where it is as near as `tolerance`, a part of it.
pub(crate) fn near_standard(rate: Rational, tolerance: Rational) -> Option<Rational> {
    let nearest = nearest(standard_rates(), rate)?;
    ((nearest - rate).abs() <= nearest * tolerance).then_some(nearest)
}

/// The rate that material varying around `mean` is made constant at, where no distance of frames stands out: the
/// nearest usual one.
pub(crate) fn nominal_rate(mean: Rational) -> Rational {
    nearest(usual_rates(), mean).unwrap_or(Rational::whole(25))
}

fn nearest(rates: impl Iterator<Item = Rational>, rate: Rational) -> Option<Rational> {
    rates.min_by_key(|known| (*known - rate).abs())
}

/// A frame rate in the words of the trade: `25`, `23.976`, `29.97`.
#[must_use]
pub fn rate_text(rate: Rational) -> String {
    if rate.denominator() == 1 {
        return rate.numerator().to_string();
    }
    let text = format!("{:.3}", rate.to_f64());
    text.trim_end_matches('0').trim_end_matches('.').to_owned()
}
