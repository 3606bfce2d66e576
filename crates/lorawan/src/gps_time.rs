//! GPS time, which DeviceTimeAns and class B count in: seconds since 6 January 1980, without the leap
//! seconds that UTC has had since.

/// Unix time of the GPS epoch, 1980-01-06T00:00:00Z.
pub const GPS_EPOCH_UNIX_S: i64 = 315_964_800;

/// Unix times from which one more leap second counts: the midnights after each leap second since the
/// GPS epoch (IERS Bulletin C; the last one so far came at the end of 2016).
const LEAPS_UNIX_S: [i64; 18] = [
    362_793_600,   // 1981-07-01
    394_329_600,   // 1982-07-01
    425_865_600,   // 1983-07-01
    489_024_000,   // 1985-07-01
    567_993_600,   // 1988-01-01
    631_152_000,   // 1990-01-01
    662_688_000,   // 1991-01-01
    709_948_800,   // 1992-07-01
    741_484_800,   // 1993-07-01
    773_020_800,   // 1994-07-01
    820_454_400,   // 1996-01-01
    867_715_200,   // 1997-07-01
    915_148_800,   // 1999-01-01
    1_136_073_600, // 2006-01-01
    1_230_768_000, // 2009-01-01
    1_341_100_800, // 2012-07-01
    1_435_708_800, // 2015-07-01
    1_483_228_800, // 2017-01-01
];

const SECOND_US: i64 = 1_000_000;

/// Leap seconds between GPS and UTC at a Unix time.
pub fn leap_seconds_at(unix_s: i64) -> i64 {
    LEAPS_UNIX_S.partition_point(|leap| *leap <= unix_s) as i64
}

/// GPS microseconds of a Unix time in microseconds. Unix time repeats the second before a leap; the
/// earlier of the two is meant.
pub fn from_unix_us(unix_us: i64) -> i64 {
    let leaps = leap_seconds_at(unix_us.div_euclid(SECOND_US));
    unix_us.saturating_sub((GPS_EPOCH_UNIX_S - leaps) * SECOND_US)
}

/// Unix microseconds of a GPS time in microseconds. The leap second itself has no Unix time of its
/// own and is given that of the second after it.
pub fn to_unix_us(gps_us: i64) -> i64 {
    // The nth leap (from 0) begins n seconds later in GPS time than in Unix time.
    let gps_s = gps_us.div_euclid(SECOND_US);
    let begun = (0i64..).zip(LEAPS_UNIX_S).filter(|(n, leap)| gps_s >= leap - GPS_EPOCH_UNIX_S + n);
    // In the leap second itself one more leap has begun, and its time is given again.
    let leaps = begun.count() as i64;
    gps_us.saturating_add((GPS_EPOCH_UNIX_S - leaps) * SECOND_US)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn known_instants() {
        assert_eq!(from_unix_us(GPS_EPOCH_UNIX_S * SECOND_US), 0);
        // 2017-01-01T00:00:00Z is GPS week 1930, 18 s into it: 1930 · 604 800 + 18.
        assert_eq!(from_unix_us(1_483_228_800 * SECOND_US), 1_167_264_018 * SECOND_US);
        // The second before it: 17 leap seconds still.
        assert_eq!(from_unix_us(1_483_228_799 * SECOND_US), 1_167_264_016 * SECOND_US);
        assert_eq!(to_unix_us(1_167_264_017 * SECOND_US), 1_483_228_799 * SECOND_US + SECOND_US - SECOND_US);
        assert_eq!(leap_seconds_at(1_800_000_000), 18);
    }

    proptest! {
        #[test]
        fn there_and_back(unix_us in 315_964_800_000_000i64..4_000_000_000_000_000) {
            prop_assert_eq!(to_unix_us(from_unix_us(unix_us)), unix_us);
        }

        #[test]
        fn gps_time_never_stands_still(unix_us in 315_964_800_000_000i64..4_000_000_000_000_000) {
            prop_assert!(from_unix_us(unix_us + 1) > from_unix_us(unix_us));
        }

        #[test]
        fn any_time_is_answered(us: i64) {
            let _ = (from_unix_us(us), to_unix_us(us));
        }
    }
}
