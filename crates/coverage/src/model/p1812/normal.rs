//! The inverse of the complementary cumulative normal distribution (P.1812-4, Attachment 2).

/// How many standard deviations are exceeded with this probability: 0 for a half, 1.28 for a tenth. Good to 5e-4 between
/// 0.000001 and 0.999999, and held there.
pub fn inverse_complementary_normal(probability: f64) -> f64 {
    let probability = probability.clamp(0.000_001, 0.999_999);
    // The formula is off by 4e-4 here, and a median has no margin.
    if probability == 0.5 {
        return 0.0;
    }
    if probability > 0.5 {
        return -upper(1.0 - probability);
    }
    upper(probability)
}

/// Equations 96 to 98.
fn upper(probability: f64) -> f64 {
    const C: [f64; 3] = [2.515_516_698, 0.802_853, 0.010_328];
    const D: [f64; 3] = [1.432_788, 0.189_269, 0.001_308];
    let t = (-2.0 * probability.ln()).sqrt();
    t - ((C[2] * t + C[1]) * t + C[0]) / (((D[2] * t + D[1]) * t + D[0]) * t + 1.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_the_tables_of_the_normal_distribution() {
        for (probability, deviations) in [(0.5, 0.0), (0.1, 1.2816), (0.05, 1.6449), (0.01, 2.3263), (0.001, 3.0902)] {
            assert!((inverse_complementary_normal(probability) - deviations).abs() < 6e-4, "{probability}");
            assert!((inverse_complementary_normal(1.0 - probability) + deviations).abs() < 6e-4, "{probability}");
        }
        assert!(inverse_complementary_normal(0.0).is_finite() && inverse_complementary_normal(1.0).is_finite());
    }
}
