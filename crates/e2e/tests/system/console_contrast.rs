//! Text on all pages of the console stands out from what is behind it, in both themes (WCAG 2.2, 1.4.3, level AA).

use std::collections::HashMap;

use api::model::PutModel;
use e2e::browser::Browser;
use e2e::service::Service;
use reqwest::Method;
use serde_json::Value;
use simulator::world::World;

use crate::console::sign_in;
use crate::scenes::tarnsey;

/// Texts that stand out too little, each with where it is and its contrast. What cannot be used yet is exempt.
const FAINT: &str = r#"
    const still = new CSSStyleSheet();
    still.replaceSync('*, *::before, *::after { transition: none !important; animation: none !important }');
    document.adoptedStyleSheets = [...document.adoptedStyleSheets, still];
    const pen = Object.assign(document.createElement('canvas'), { width: 1, height: 1 }).getContext('2d', { willReadFrequently: true });
    const known = new Map();
    const rgba = (text) => {
        if (!known.has(text)) {
            pen.clearRect(0, 0, 1, 1);
            pen.fillStyle = text;
            pen.fillRect(0, 0, 1, 1);
            const [r, g, b, a] = pen.getImageData(0, 0, 1, 1).data;
            known.set(text, [r, g, b, a / 255]);
        }
        return known.get(text);
    };
    const over = (top, below) => [0, 1, 2].map((i) => top[i] * top[3] + below[i] * (1 - top[3])).concat(1);
    const up = (node) => { const all = []; for (let n = node; n; n = n.parentElement) all.push(n); return all; };
    const ground = (node) => up(node).reverse().map((n) => rgba(getComputedStyle(n).backgroundColor)).reduce((below, top) => over(top, below), [255, 255, 255, 1]);
    const opacity = (node) => up(node).reduce((all, n) => all * Number(getComputedStyle(n).opacity), 1);
    const light = (colour) => {
        const [r, g, b] = colour.map((value) => { const v = value / 255; return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4; });
        return 0.2126 * r + 0.7152 * g + 0.0722 * b;
    };
    const contrast = (a, b) => { const [x, y] = [light(a), light(b)].sort((p, q) => q - p); return (x + 0.05) / (y + 0.05); };
    const texts = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
    const found = new Map();
    while (texts.nextNode()) {
        const [text, node] = [texts.currentNode.textContent.trim(), texts.currentNode.parentElement];
        if (!text || !node.checkVisibility({ opacityProperty: true, visibilityProperty: true })) continue;
        if (node.closest('script, style, option, .sr-only, [aria-hidden=true], :disabled, [aria-disabled=true]')) continue;
        const box = node.getBoundingClientRect();
        if (box.width < 2 || box.height < 2) continue;
        const style = getComputedStyle(node);
        const behind = ground(node);
        const [r, g, b, a] = rgba(node.closest('svg') ? style.fill : style.color);
        const ratio = contrast(over([r, g, b, a * opacity(node)], behind), behind);
        const size = parseFloat(style.fontSize);
        const large = size >= 24 || (size >= 18.66 && Number(style.fontWeight) >= 700);
        if (ratio < (large ? 3 : 4.5)) found.set(`${node.tagName.toLowerCase()}.${node.getAttribute('class') ?? ''}`, `${ratio.toFixed(2)} ${text.slice(0, 30)}`);
    }
    return [...found].map(([where, what]) => `${what} (${where})`);
"#;

const PATHS: [&str; 36] = [
    "/watch",
    "/gateways",
    "/gateways/02a1f00000000001",
    "/gateways/02a1f00000000001?tab=connection",
    "/gateways/02a1f00000000001?tab=setup",
    "/devices",
    "/devices/models",
    "/devices/profiles",
    "/devices/fleets",
    "/devices/rounds?fleet=tide-and-sluice",
    "/devices/fleets/tide-and-sluice",
    "/devices?view=map",
    "/devices/chart?line=02b0010000000001.level",
    "/devices/02b0010000000001",
    "/devices/02b0010000000001?tab=traffic",
    "/devices/02b0010000000001?tab=outbox",
    "/devices/02b0010000000001?tab=setup",
    "/devices/02b0030000000013",
    "/traffic",
    "/decoders",
    "/decoders/contrast",
    "/airtime",
    "/outlets",
    "/outlets/connect",
    "/coverage",
    "/coverage?tab=devices",
    "/coverage?tab=sites",
    "/tools",
    "/tools/frame?frame=4067452303859c0102",
    "/tools/regions",
    "/tools/regions/US915",
    "/tools/airtime",
    "/people",
    "/people/tokens",
    "/people/audit",
    "/account",
];

#[tokio::test(flavor = "multi_thread")]
async fn all_text_stands_out_in_both_themes() {
    let service = Service::first_start().await;
    let scenario = tarnsey(&["tide-01", "collar-19"]);
    service.register(&scenario).await;
    let decoder = "// With a comment, a string and a number.\nfunction decodeUplink(input) {\n  const unit = \"m\";\n  return { data: { level: input.bytes[0] / 100, unit } };\n}\n";
    let model = PutModel {
        maker: "Skerry".into(),
        name: "Contrast".into(),
        decoder: Some(decoder.into()),
        ..PutModel::default()
    };
    let path = "/estates/tarnsey/models/contrast";
    let _: Value = service.done(Method::PUT, path, Some(serde_json::to_value(&model).unwrap())).await;
    let world = World::start(&scenario, service.udp, &HashMap::new()).await.unwrap();
    let browser = Browser::open(1280, 900).await.unwrap();
    sign_in(&browser, &service).await;
    browser.text_when("tr[data-gateway=chapel-rise]", |text| text.contains("listening")).await;
    let mut faint = Vec::new();
    for theme in ["marsh", "dusk"] {
        browser.window.execute(format!("localStorage.setItem('theme', '{theme}')"), Vec::new()).await.unwrap();
        for path in PATHS {
            browser.window.goto(format!("{}{path}", service.http)).await.unwrap();
            browser.text_when("h1", |text| !text.is_empty()).await;
            let answer = browser.window.execute(FAINT, Vec::new()).await.unwrap();
            let texts: Vec<String> = serde_json::from_value(answer.json().clone()).unwrap();
            faint.extend(texts.into_iter().map(|text| format!("{theme} {path}: {text}")));
        }
    }
    assert!(faint.is_empty(), "{} texts are too faint:\n{}", faint.len(), faint.join("\n"));
    drop(world);
    browser.close().await.unwrap();
}
