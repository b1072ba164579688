//! Exact fractions, the only way time is counted here.

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// An exact fraction, always reduced, its denominator always positive.
///
/// Written as `30000/1001`, or as `25` where the denominator is one. Results that no longer fit
/// into 64 bits are rounded to the nearest fraction that does, which no clock of a real file needs.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Rational {
    numerator: i64,
    denominator: i64,
}

/// A text that is not a fraction.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("“{0}” is not a number such as 25, 29.97 or 30000/1001")]
pub struct NotRational(pub String);

impl Rational {
    /// Nought.
    pub const ZERO: Self = Self::whole(0);
    /// One.
    pub const ONE: Self = Self::whole(1);

    /// A whole number.
    #[must_use]
    pub const fn whole(value: i64) -> Self {
        Self { numerator: value, denominator: 1 }
    }

    /// `numerator / denominator`, or nothing where the denominator is nought.
    #[must_use]
    pub fn new(numerator: i64, denominator: i64) -> Option<Self> {
        (denominator != 0).then(|| reduce(numerator.into(), denominator.into()))
    }

    /// A fraction known to be sound when the program was written, reduced like any other.
    ///
    /// # Panics
    /// At compile time where the denominator is not positive.
    #[must_use]
    pub const fn constant(numerator: i64, denominator: i64) -> Self {
        assert!(denominator > 0, "a constant fraction needs a positive denominator");
        let divisor = gcd_of_64_bits(numerator.unsigned_abs(), denominator.unsigned_abs()).cast_signed();
        Self { numerator: numerator / divisor, denominator: denominator / divisor }
    }

    /// What stands above the line.
    #[must_use]
    pub const fn numerator(self) -> i64 {
        self.numerator
    }

    /// What stands below the line: one or more.
    #[must_use]
    pub const fn denominator(self) -> i64 {
        self.denominator
    }

    /// The quotient, or nothing where `other` is nought.
    #[must_use]
    pub fn divided_by(self, other: Self) -> Option<Self> {
        (other.numerator != 0).then(|| {
            reduce(
                i128::from(self.numerator) * i128::from(other.denominator),
                i128::from(self.denominator) * i128::from(other.numerator),
            )
        })
    }

    /// One over this, or nothing for nought.
    #[must_use]
    pub fn inverse(self) -> Option<Self> {
        Self::ONE.divided_by(self)
    }

    /// The largest whole number that is not larger.
    #[must_use]
    pub const fn floor(self) -> i64 {
        self.numerator.div_euclid(self.denominator)
    }

    /// The smallest whole number that is not smaller.
    #[must_use]
    pub const fn ceil(self) -> i64 {
        let floor = self.floor();
        if self.numerator.rem_euclid(self.denominator) == 0 { floor } else { floor + 1 }
    }

    /// The nearest whole number, halves upward.
    #[must_use]
    pub fn round(self) -> i64 {
        (self + Self::constant(1, 2)).floor()
    }

    /// As a floating-point number, for display and for weights only.
    #[must_use]
    pub fn to_f64(self) -> f64 {
        self.numerator as f64 / self.denominator as f64
    }

    /// Without its sign.
    #[must_use]
    pub fn abs(self) -> Self {
        if self.numerator < 0 { -self } else { self }
    }

    /// Whether it is above nought.
    #[must_use]
    pub const fn is_positive(self) -> bool {
        self.numerator > 0
    }
}

macro_rules! from_whole {
    ($($number:ty),*) => {
        $(impl From<$number> for Rational {
            /// What does not fit is taken for the largest that does.
            fn from(value: $number) -> Self {
                Self::whole(i64::try_from(value).unwrap_or(i64::MAX))
            }
        })*
    };
}
from_whole!(i32, u32, u64);

fn reduce(numerator: i128, denominator: i128) -> Rational {
    let divisor = gcd(numerator.unsigned_abs(), denominator.unsigned_abs()).max(1);
    let sign = if denominator < 0 { -1 } else { 1 };
    let divisor = i128::try_from(divisor).unwrap_or(1);
    // One is common, and wide division is slow.
    let reduced = |value: i128| if divisor == 1 { sign * value } else { sign * value / divisor };
    let (mut numerator, mut denominator) = (reduced(numerator), reduced(denominator));
    if let (Ok(numerator), Ok(denominator)) = (i64::try_from(numerator), i64::try_from(denominator)) {
        return Rational { numerator, denominator };
    }
    loop {
        if let (Ok(numerator), Ok(denominator)) = (i64::try_from(numerator), i64::try_from(denominator)) {
            let divisor = i64::try_from(gcd_of_64_bits(numerator.unsigned_abs(), denominator.unsigned_abs())).unwrap_or(1).max(1);
            return Rational { numerator: numerator / divisor, denominator: denominator / divisor };
        }
        numerator /= 2;
        denominator = (denominator / 2).max(1);
        if denominator == 1 {
            numerator = numerator.clamp(i64::MIN.into(), i64::MAX.into());
        }
    }
}

fn gcd(mut a: u128, mut b: u128) -> u128 {
    while b != 0 {
        // Wide division is many times slower, and almost nothing needs it.
        if let (Ok(a), Ok(b)) = (u64::try_from(a), u64::try_from(b)) {
            return gcd_of_64_bits(a, b).into();
        }
        (a, b) = (b, a % b);
    }
    a
}

const fn gcd_of_64_bits(mut a: u64, mut b: u64) -> u64 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

impl std::ops::Add for Rational {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        reduce(
            i128::from(self.numerator) * i128::from(other.denominator)
                + i128::from(other.numerator) * i128::from(self.denominator),
            i128::from(self.denominator) * i128::from(other.denominator),
        )
    }
}

impl std::ops::Neg for Rational {
    type Output = Self;
    fn neg(self) -> Self {
        reduce(-i128::from(self.numerator), self.denominator.into())
    }
}

impl std::ops::Sub for Rational {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        self + -other
    }
}

impl std::ops::Mul for Rational {
    type Output = Self;
    fn mul(self, other: Self) -> Self {
        reduce(
            i128::from(self.numerator) * i128::from(other.numerator),
            i128::from(self.denominator) * i128::from(other.denominator),
        )
    }
}

impl PartialOrd for Rational {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Rational {
    fn cmp(&self, other: &Self) -> Ordering {
        (i128::from(self.numerator) * i128::from(other.denominator))
            .cmp(&(i128::from(other.numerator) * i128::from(self.denominator)))
    }
}

impl fmt::Display for Rational {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.denominator == 1 { write!(f, "{}", self.numerator) } else { write!(f, "{}/{}", self.numerator, self.denominator) }
    }
}

impl fmt::Debug for Rational {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Rational {
    type Err = NotRational;

    /// Reads `25`, `30000/1001`, `0.5` and, since people write them so, the rounded broadcast rates
    /// `23.976`, `23.98`, `29.97`, `47.952`, `59.94` and `119.88` as what they stand for.
    fn from_str(text: &str) -> Result<Self, NotRational> {
        let refuse = || NotRational(text.to_owned());
        let text = text.trim();
        match text {
            "23.976" | "23.98" => return Ok(Self::constant(24_000, 1001)),
            "29.97" => return Ok(Self::constant(30_000, 1001)),
            "47.952" | "47.95" => return Ok(Self::constant(48_000, 1001)),
            "59.94" => return Ok(Self::constant(60_000, 1001)),
            "119.88" => return Ok(Self::constant(120_000, 1001)),
            _ => {}
        }
        if let Some((numerator, denominator)) = text.split_once(['/', ':']) {
            let numerator = numerator.trim().parse().map_err(|_| refuse())?;
            let denominator = denominator.trim().parse().map_err(|_| refuse())?;
            return Self::new(numerator, denominator).ok_or_else(refuse);
        }
        let (whole, decimals) = text.split_once('.').unwrap_or((text, ""));
        if decimals.len() > 9 || !decimals.bytes().all(|byte| byte.is_ascii_digit()) {
            return Err(refuse());
        }
        let scale = 10_i64.pow(u32::try_from(decimals.len()).map_err(|_| refuse())?);
        let digits: i64 = format!("{whole}{decimals}").parse().map_err(|_| refuse())?;
        Self::new(digits, scale).ok_or_else(refuse)
    }
}

impl Serialize for Rational {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Rational {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Written {
            Whole(i64),
            Text(String),
        }
        match Written::deserialize(deserializer)? {
            Written::Whole(value) => Ok(Self::whole(value)),
            Written::Text(text) => text.parse().map_err(serde::de::Error::custom),
        }
    }
}

/// How fractions appear in the description of the API: as text.
impl utoipa::PartialSchema for Rational {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::schema::Schema> {
        utoipa::openapi::schema::ObjectBuilder::new()
            .schema_type(utoipa::openapi::schema::Type::String)
            .description(Some("An exact fraction, such as 30000/1001 or 25"))
            .examples(["30000/1001"])
            .into()
    }
}

impl utoipa::ToSchema for Rational {}
