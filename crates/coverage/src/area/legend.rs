//! Legends of what is drawn over an area: titles, units, classes and colours.

use super::forecast::Layer;

/// A colour: red, green and blue.
pub type Colour = [u8; 3];

/// What the values of a legend mean.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Scale {
    /// Amounts of which much is good.
    MuchIsGood,
    /// Amounts of which little is good.
    LittleIsGood,
    /// Numbers of data rates, of which the fast ones are good.
    DataRates,
    /// Numbers of names, of which none is better than another.
    Names,
    /// Differences: less, about the same, more.
    Differences,
}

/// A legend.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Legend {
    /// What the values mean.
    pub scale: Scale,
    /// What is drawn.
    pub title: &'static str,
    /// Its unit, with the space before it; empty if it has none.
    pub unit: &'static str,
    /// The lower bounds of classes 1, 2, …; values below the first bound are class 0.
    pub bounds: &'static [f64],
}

/// From little to much.
const RAMP: [Colour; 8] = [
    [122, 28, 36],
    [190, 74, 48],
    [226, 142, 70],
    [238, 206, 120],
    [176, 204, 130],
    [96, 168, 120],
    [36, 124, 124],
    [30, 78, 108],
];
/// From less over the same to more.
const DIFFERENCES: [Colour; 7] =
    [[122, 28, 36], [200, 92, 60], [236, 180, 130], [226, 226, 216], [150, 194, 206], [72, 140, 176], [26, 76, 120]];
/// The legend of a difference in decibels.
pub const DIFFERENCE_DB: Legend = Legend {
    scale: Scale::Differences,
    title: "difference",
    unit: " dB",
    bounds: &[-20.0, -12.0, -6.0, 6.0, 12.0, 20.0],
};
/// Colours of sites: none means more than another.
const SITES: [Colour; 8] = [
    [44, 110, 150],
    [216, 140, 50],
    [70, 140, 80],
    [170, 70, 90],
    [120, 100, 170],
    [150, 120, 70],
    [60, 150, 150],
    [190, 110, 160],
];

const POWER_DBM: &[f64] = &[-140.0, -130.0, -120.0, -110.0, -100.0, -90.0];
const OVER_NOISE_DB: &[f64] = &[-20.0, -15.0, -10.0, -5.0, 0.0, 10.0];

impl Layer {
    /// All layers.
    pub const ALL: [Self; 10] = [
        Self::Margin,
        Self::DataRate,
        Self::BestSite,
        Self::InReach,
        Self::Uplink,
        Self::Downlink,
        Self::Snr,
        Self::Snir,
        Self::Airtime,
        Self::Reliability,
    ];

    /// Its legend.
    pub const fn legend(self) -> Legend {
        let (title, unit, bounds): (_, _, &[f64]) = match self {
            Self::Uplink => ("received by the best site", " dBm", POWER_DBM),
            Self::Downlink => ("received by the device", " dBm", POWER_DBM),
            Self::Margin => ("margin at the slowest data rate", " dB", &[0.0, 5.0, 10.0, 20.0, 30.0, 40.0]),
            Self::BestSite => ("best site", "", &[0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0]),
            Self::Snr => ("SNR in 125 kHz", " dB", OVER_NOISE_DB),
            Self::Snir => ("SNIR at the best data rate", " dB", OVER_NOISE_DB),
            Self::DataRate => ("best data rate", "", &[0.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0]),
            Self::InReach => ("sites that hear it", "", &[1.0, 2.0, 3.0, 4.0]),
            Self::Airtime => ("airtime of a message", " ms", &[50.0, 100.0, 200.0, 400.0, 800.0, 1600.0]),
            Self::Reliability => ("share of places that are heard", "", &[0.5, 0.8, 0.9, 0.95, 0.99]),
        };
        let scale = match self {
            Self::BestSite => Scale::Names,
            Self::DataRate => Scale::DataRates,
            Self::Airtime => Scale::LittleIsGood,
            _ => Scale::MuchIsGood,
        };
        Legend { scale, title, unit, bounds }
    }
}

impl Legend {
    /// The class of a value: 0 below all bounds, 1 for the first of [`Legend::bounds`], and so on.
    pub fn class(&self, value: f64) -> usize {
        self.bounds.partition_point(|bound| *bound <= value)
    }

    /// The colour of a class. Where there are fewer classes than colours, the ends of the scale are kept.
    pub fn colour(&self, class: usize) -> Colour {
        let colours: &[Colour] = match self.scale {
            Scale::Names => return SITES[class.saturating_sub(1).min(SITES.len() - 1)],
            Scale::Differences => &DIFFERENCES,
            Scale::MuchIsGood | Scale::LittleIsGood | Scale::DataRates => &RAMP,
        };
        let last = colours.len() - 1;
        let at = (class * last).div_ceil(self.bounds.len()).min(last);
        if self.scale == Scale::LittleIsGood { colours[last - at] } else { colours[at] }
    }

    /// The classes from much to little, each with what it stands for. The names are those of the numbers of
    /// [`Scale::Names`].
    pub fn classes(&self, names: &[&str]) -> Vec<(usize, String)> {
        let all = 1..=self.bounds.len();
        match self.scale {
            Scale::Names => {
                let mut named: Vec<_> = all.zip(names).map(|(class, name)| (class, (*name).to_owned())).collect();
                if let Some(last) = named.last_mut().filter(|_| names.len() > self.bounds.len()) {
                    last.1.push_str(" and all that follow");
                }
                named
            }
            Scale::DataRates => all.rev().map(|n| (n, format!("DR{}", self.bounds[n - 1]))).collect(),
            _ => {
                let least = (0, format!("less than {}{}", self.bounds[0], self.unit));
                let more = all.rev().map(|n| (n, format!("{}{} or more", self.bounds[n - 1], self.unit)));
                more.chain([least]).collect()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_class_has_a_colour_of_its_own_and_words() {
        for layer in Layer::ALL {
            let legend = layer.legend();
            let names: Vec<String> = (0..8).map(|n| format!("site-{n}")).collect();
            let names: Vec<&str> = names.iter().map(String::as_str).collect();
            let classes = legend.classes(&names);
            let mut colours: Vec<Colour> = classes.iter().map(|(class, _)| legend.colour(*class)).collect();
            colours.sort_unstable();
            colours.dedup();
            assert_eq!(colours.len(), classes.len(), "{layer:?}");
        }
        let margin = Layer::Margin.legend();
        assert_eq!((margin.class(-0.1), margin.class(0.0), margin.class(99.0)), (0, 1, 6));
        assert_eq!((margin.colour(0), margin.colour(6)), (RAMP[0], RAMP[7]));
        assert_eq!(margin.classes(&[])[0].1, "40 dB or more");
        assert_eq!(margin.classes(&[]).last().unwrap().1, "less than 0 dB");
        assert_eq!(Layer::Airtime.legend().colour(0), RAMP[7], "little airtime is good");
        let nine = ["a", "b", "c", "d", "e", "f", "g", "h", "i"];
        let named = Layer::BestSite.legend().classes(&nine);
        assert_eq!((named.len(), named[7].1.as_str()), (8, "h and all that follow"));
    }

    #[test]
    fn about_the_same_is_in_the_middle_of_differences() {
        let colour = |db: f64| DIFFERENCE_DB.colour(DIFFERENCE_DB.class(db));
        assert_eq!((colour(-30.0), colour(0.0), colour(30.0)), (DIFFERENCES[0], DIFFERENCES[3], DIFFERENCES[6]));
        assert_eq!((colour(-7.0), colour(7.0)), (DIFFERENCES[2], DIFFERENCES[4]));
        assert_eq!(DIFFERENCE_DB.classes(&[]).len(), DIFFERENCES.len());
    }
}
