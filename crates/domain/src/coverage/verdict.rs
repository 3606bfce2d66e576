//! What the links of a device come to: good, weak by nature, or weak by fault.

use api::coverage::link::{AssignBy, CoverageVerdict, DeviceCoverage, DeviceLink};
use api::diagnosis::device::{Finding as DeviceFinding, Weight};

/// Less margin than this at the slowest data rate is weak: rain, a passing lorry or a summer's leaves take as much.
const WEAK_DB: f64 = 10.0;
/// A forecast that is this much better than what was measured is contradicted by it: about twice the error of the models.
const CONTRADICTED_DB: f64 = 12.0;
/// A second gateway counts if it hears this share of the uplinks.
const HEARS: f64 = 0.5;

/// A link as the verdict sees it.
#[derive(Debug, Clone, PartialEq)]
pub struct Finding {
    /// The gateway's name.
    pub gateway: String,
    /// The forecast margin at the slowest data rate and full power, nothing taken off; none where there is no forecast.
    pub forecast_db: Option<f64>,
    /// The same as measured; none if it was not heard.
    pub measured_db: Option<f64>,
    /// The share of the uplinks that the gateway heard, 0 to 1.
    pub heard: f64,
    /// What blocks the line of sight, in words, if something does.
    pub blocked_by: Option<String>,
}

/// What links come to.
#[derive(Debug, Clone, PartialEq)]
pub struct Judged {
    /// The verdict.
    pub verdict: CoverageVerdict,
    /// Why, and what to do.
    pub words: String,
    /// The best gateway.
    pub best: Option<String>,
    /// The next one.
    pub second: Option<String>,
    /// The margin at the slowest data rate when the best gateway fails.
    pub without_best_db: Option<f64>,
}

/// Judges the links of one device, of which uplinks were looked for.
pub fn judge(findings: &[Finding]) -> Judged {
    let mut heard: Vec<&Finding> = findings.iter().filter(|one| one.measured_db.is_some()).collect();
    heard.sort_by(|a, b| b.measured_db.unwrap_or(f64::MIN).total_cmp(&a.measured_db.unwrap_or(f64::MIN)));
    let mut expected: Vec<&Finding> = findings.iter().filter(|one| one.forecast_db.is_some()).collect();
    expected.sort_by(|a, b| b.forecast_db.unwrap_or(f64::MIN).total_cmp(&a.forecast_db.unwrap_or(f64::MIN)));
    let order = if heard.is_empty() { &expected } else { &heard };
    let name = |at: usize| order.get(at).map(|one| one.gateway.clone());
    let (verdict, words) = match (heard.first(), expected.first()) {
        (Some(best), expected) => of_heard(best, heard.get(1).copied(), expected.copied()),
        (None, Some(expected)) => of_unheard(expected),
        (None, None) => (
            CoverageVerdict::Unknown,
            "It was not heard, and no gateway is near enough for a forecast: give the device and gateways a place."
                .into(),
        ),
    };
    let without_best_db = order.get(1).and_then(|one| one.measured_db.or(one.forecast_db));
    Judged { verdict, words, best: name(0), second: name(1), without_best_db }
}

fn of_heard(best: &Finding, second: Option<&Finding>, expected: Option<&Finding>) -> (CoverageVerdict, String) {
    let measured_db = best.measured_db.unwrap_or_default();
    let heard =
        format!("{} hears it {measured_db:.1} dB above what the slowest data rate needs at full power", best.gateway);
    if measured_db >= WEAK_DB {
        return match second.filter(|one| one.heard >= HEARS) {
            Some(second) => (CoverageVerdict::Good, format!("{heard}; {} hears it as well.", second.gateway)),
            None => (CoverageVerdict::OneGateway, format!("{heard}; if that gateway fails, it is lost.")),
        };
    }
    let Some((expected, forecast_db)) = expected.and_then(|one| Some((one, one.forecast_db?))) else {
        return (
            CoverageVerdict::WeakByNature,
            format!("{heard}, which is weak. There is no forecast to compare: give it a place."),
        );
    };
    if forecast_db - measured_db >= CONTRADICTED_DB {
        let words = format!(
            "{heard}, where the forecast has {forecast_db:.1} dB at {}: look at the antenna of the device, at where it really is, and at what stands around it.",
            expected.gateway
        );
        return (CoverageVerdict::WeakByFault, words);
    }
    let because = match &expected.blocked_by {
        Some(blocked) => format!("{blocked} A higher antenna or a nearer gateway would help."),
        None => "It is far away: a higher antenna, a better one or a nearer gateway would help.".to_owned(),
    };
    (CoverageVerdict::WeakByNature, format!("{heard}, and the forecast has no more ({forecast_db:.1} dB). {because}"))
}

fn of_unheard(expected: &Finding) -> (CoverageVerdict, String) {
    let forecast_db = expected.forecast_db.unwrap_or_default();
    if forecast_db >= WEAK_DB {
        let words = format!(
            "It was not heard, where the forecast has {forecast_db:.1} dB of margin at {}: it is switched off, has not joined, or has lost its antenna.",
            expected.gateway
        );
        return (CoverageVerdict::NotHeard, words);
    }
    let because = expected.blocked_by.as_deref().unwrap_or("It is far away.");
    let words = format!(
        "It was not heard, and the forecast has {forecast_db:.1} dB of margin at the best gateway, {}. {because}",
        expected.gateway
    );
    (CoverageVerdict::OutOfReach, words)
}

/// A verdict as a finding about the device, for those who ask why. What keeps it from being heard at all is told by others.
pub fn as_finding(coverage: &DeviceCoverage) -> Option<DeviceFinding> {
    let weight = match coverage.verdict {
        CoverageVerdict::Good | CoverageVerdict::OneGateway => Weight::Fine,
        CoverageVerdict::WeakByNature | CoverageVerdict::WeakByFault | CoverageVerdict::OutOfReach => Weight::Attention,
        CoverageVerdict::NotHeard | CoverageVerdict::Unknown => return None,
    };
    Some(DeviceFinding { weight, about: "coverage".into(), what: coverage.words.clone(), next_step: None })
}

/// Marks the gateway of each device by a criterion; links of one device stand together.
pub fn assign(links: &mut [DeviceLink], by: AssignBy) {
    let value = |link: &DeviceLink| match by {
        AssignBy::Forecast => link.margin_db,
        AssignBy::Distance => -link.distance_m,
        // What was heard goes before what is only expected.
        AssignBy::Measured => link.measured.map_or(link.forecast_dbm - 1_000.0, |measured| {
            coverage::survey::signal_dbm(measured.rssi_dbm, measured.snr_db)
        }),
    };
    for part in links.chunk_by_mut(|a, b| a.dev_eui == b.dev_eui) {
        let best = part.iter().enumerate().max_by(|a, b| value(a.1).total_cmp(&value(b.1))).map(|(at, _)| at);
        part.iter_mut().enumerate().for_each(|(at, link)| link.assigned = Some(at) == best);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn finding(gateway: &str, forecast_db: Option<f64>, measured_db: Option<f64>) -> Finding {
        let heard = if measured_db.is_some() { 0.9 } else { 0.0 };
        Finding { gateway: gateway.into(), forecast_db, measured_db, heard, blocked_by: None }
    }

    #[test]
    fn two_gateways_are_good_and_one_is_a_risk() {
        let both = [finding("a", Some(25.0), Some(22.0)), finding("b", Some(15.0), Some(24.0))];
        let judged = judge(&both);
        assert_eq!(
            (judged.verdict, judged.best.as_deref(), judged.second.as_deref()),
            (CoverageVerdict::Good, Some("b"), Some("a"))
        );
        assert_eq!(judged.without_best_db, Some(22.0));
        let mut rare = both.clone();
        rare[0].heard = 0.1;
        assert_eq!(judge(&rare).verdict, CoverageVerdict::OneGateway);
        assert_eq!(judge(&both[..1]).verdict, CoverageVerdict::OneGateway);
    }

    #[test]
    fn the_forecast_tells_nature_from_fault() {
        let hill = "The line of sight is blocked: ground, 2.31 km from the gateway, rises 24.0 m above it.";
        let behind = Finding { blocked_by: Some(hill.into()), ..finding("a", Some(5.0), Some(3.0)) };
        let nature = judge(&[behind]);
        assert_eq!(nature.verdict, CoverageVerdict::WeakByNature);
        assert!(nature.words.contains("3.0 dB") && nature.words.contains("rises 24.0 m"), "{}", nature.words);
        let fault = judge(&[finding("a", Some(28.0), Some(3.0)), finding("b", Some(2.0), None)]);
        assert_eq!(fault.verdict, CoverageVerdict::WeakByFault);
        assert!(fault.words.contains("28.0 dB at a"), "{}", fault.words);
        assert_eq!(judge(&[finding("a", None, Some(3.0))]).verdict, CoverageVerdict::WeakByNature);
    }

    #[test]
    fn a_verdict_is_a_finding_unless_others_say_more() {
        let coverage = |verdict| DeviceCoverage {
            dev_eui: lorawan::Eui64(1),
            device: "tide".into(),
            fleet: "tide".into(),
            verdict,
            words: "It is far away.".into(),
            margin_db: None,
            best: None,
            second: None,
            margin_without_best_db: None,
        };
        let weight = |verdict| as_finding(&coverage(verdict)).map(|finding| finding.weight);
        assert_eq!(weight(CoverageVerdict::OneGateway), Some(Weight::Fine));
        assert_eq!(weight(CoverageVerdict::WeakByFault), Some(Weight::Attention));
        assert_eq!((weight(CoverageVerdict::NotHeard), weight(CoverageVerdict::Unknown)), (None, None));
    }

    #[test]
    fn what_is_not_heard_is_out_of_reach_or_in_trouble() {
        assert_eq!(judge(&[finding("a", Some(30.0), None)]).verdict, CoverageVerdict::NotHeard);
        assert_eq!(judge(&[finding("a", Some(-9.0), None)]).verdict, CoverageVerdict::OutOfReach);
        assert_eq!(judge(&[]).verdict, CoverageVerdict::Unknown);
    }
}
