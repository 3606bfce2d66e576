//! Labels of devices: codes found in photos, and sheets of codes to print.

use std::fmt::Write as _;
use std::io::Cursor;
use std::time::Instant;

use api::device::label::LabelInPhoto;
use api::problem::Problem;
use domain::device::label;
use image::imageops::FilterType;
use image::{DynamicImage, ImageReader, Limits};
use pdf_writer::{Content, Finish as _, Name, Pdf, Rect, Ref, Str};
use rxing::common::BitMatrix;
use rxing::{BarcodeFormat, DecodeHints, Exceptions, MultiFormatWriter, Writer as _};

/// The largest photo taken, in bytes.
pub(crate) const LARGEST_PHOTO: usize = 16 << 20;
/// Pixels along a side that a photo may have, and in all: more than telephones take.
const MOST_ALONG: u32 = 12_000;
const MOST_PIXELS: u64 = 64_000_000;
/// Memory a photo may unpack to.
const MOST_MEMORY: u64 = 256 << 20;
/// Pixels along the longer side that codes are looked for at: a small code in a large photo needs many, noise fewer.
const SIZES: [u32; 3] = [1600, 800, 3200];

fn bad_photo(why: &dyn std::fmt::Display) -> Problem {
    let title = "The photo cannot be read: a JPEG, PNG or WebP picture is wanted";
    Problem::new(422, "bad_photo", title).field("photo").detail(why.to_string())
}

/// The code of the label in a photo: QR or Data Matrix, in any position. This takes the processor for a while.
///
/// # Errors
/// If it is no picture, there is no code in it, or none of a device, or nothing was found until `end`.
pub(crate) fn in_photo(bytes: &[u8], end: Instant) -> Result<LabelInPhoto, Problem> {
    let reader = || ImageReader::new(Cursor::new(bytes)).with_guessed_format().map_err(|why| bad_photo(&why));
    // Its head tells how large it is, before any of it is unpacked.
    let (width, height) = reader()?.into_dimensions().map_err(|why| bad_photo(&why))?;
    let pixels = u64::from(width) * u64::from(height);
    if width > MOST_ALONG || height > MOST_ALONG || pixels > MOST_PIXELS {
        let most = format!("at most {MOST_ALONG} along a side and {} million in all", MOST_PIXELS / 1_000_000);
        return Err(bad_photo(&format!("{width} × {height} pixels are too many: {most}")));
    }
    let mut reader = reader()?;
    let mut limits = Limits::default();
    limits.max_image_width = Some(MOST_ALONG);
    limits.max_image_height = Some(MOST_ALONG);
    limits.max_alloc = Some(MOST_MEMORY);
    reader.limits(limits);
    let photo = DynamicImage::ImageLuma8(reader.decode().map_err(|why| bad_photo(&why))?.into_luma8());
    let mut codes = Vec::new();
    for size in SIZES {
        let longer = photo.width().max(photo.height());
        let scaled = if longer > size { photo.resize(size, size, FilterType::Triangle) } else { photo.clone() };
        codes = codes_in(&scaled, end);
        let label = codes.iter().find_map(|code| Some((code, label::read(code).ok()?)));
        if let Some((code, label)) = label {
            return Ok(LabelInPhoto { code: code.clone(), label });
        }
        if Instant::now() >= end {
            break;
        }
    }
    let problem = |code: &str, detail: String| {
        Problem::new(422, code, "No device's code was found in the photo").field("photo").detail(detail)
    };
    Err(match codes.first() {
        Some(other) => match label::read(other) {
            Err(why) => problem("not_a_label", why.detail.unwrap_or_else(|| format!("there is {other:?}"))),
            Ok(_) => problem("not_a_label", format!("there is {other:?}")),
        },
        None => {
            let detail = "there is no QR code or Data Matrix in it that can be read: take it nearer, straight on, without glare, \
                          and with a margin around the code";
            problem("no_code", detail.into())
        }
    })
}

fn codes_in(picture: &DynamicImage, end: Instant) -> Vec<String> {
    let luma = picture.to_luma8();
    let (width, height) = luma.dimensions();
    let luma = luma.into_raw();
    let formats = [BarcodeFormat::QR_CODE, BarcodeFormat::DATA_MATRIX];
    let hints =
        || DecodeHints { TryHarder: Some(true), PossibleFormats: Some(formats.into()), ..DecodeHints::default() };
    let found = rxing::helpers::detect_multiple_in_luma_with_hints(luma.clone(), width, height, &mut hints());
    let mut codes: Vec<String> = found.unwrap_or_default().iter().map(|code| code.getText().to_owned()).collect();
    for format in formats {
        if Instant::now() >= end {
            break;
        }
        let found = rxing::helpers::detect_in_luma_with_hints(luma.clone(), width, height, Some(format), &mut hints());
        codes.extend(found.ok().map(|code| code.getText().to_owned()));
    }
    codes
}

/// A label to print.
#[derive(Debug, Clone)]
pub(crate) struct Printed {
    pub code: String,
    pub name: String,
    pub dev_eui: String,
    pub join_eui: String,
}

/// A sheet of A4 with three columns of seven labels, in millimetres; common adhesive sheets have this division.
const SHEET: (f64, f64) = (210.0, 297.0);
const COLUMNS: usize = 3;
const ROWS: usize = 7;
const LABEL: (f64, f64) = (63.5, 38.1);
const MARGIN: (f64, f64) = (7.2, 15.1);
const BETWEEN_COLUMNS: f64 = 2.5;
/// Side of a code, with the four modules of quiet zone that belong around it (ISO/IEC 18004 §5.3.8).
const CODE: f64 = 30.0;
const QUIET: usize = 4;

/// Where a label's upper left corner lies: on which sheet, and how far from its left and upper edge.
fn place(n: usize) -> (usize, f64, f64) {
    let (sheet, on_sheet) = (n / (COLUMNS * ROWS), n % (COLUMNS * ROWS));
    let (column, row) = ((on_sheet % COLUMNS) as f64, (on_sheet / COLUMNS) as f64);
    (sheet, MARGIN.0 + column * (LABEL.0 + BETWEEN_COLUMNS), MARGIN.1 + row * LABEL.1)
}

fn sheets(labels: usize) -> usize {
    labels.div_ceil(COLUMNS * ROWS).max(1)
}

fn matrix(code: &str) -> Result<BitMatrix, Exceptions> {
    // At one pixel a module it is as small as it can be, with the quiet zone around it.
    MultiFormatWriter.encode(code, &BarcodeFormat::QR_CODE, 0, 0)
}

/// Dark modules beside each other.
struct Run {
    column: usize,
    row: usize,
    length: usize,
}

/// A code without its quiet zone.
struct Drawn {
    /// Modules along a side.
    side: usize,
    runs: Vec<Run>,
}

fn drawn(code: &str) -> Result<Drawn, Problem> {
    let unprintable =
        |why: Exceptions| Problem::new(422, "bad_label", "The code cannot be drawn").detail(why.to_string());
    let bits = matrix(code).map_err(unprintable)?;
    let (width, height) = (bits.getWidth() as usize, bits.getHeight() as usize);
    let mut runs = Vec::new();
    for row in 0..height {
        let mut x = 0;
        while x < width {
            let column = x;
            while x < width && bits.get(x as u32, row as u32) {
                x += 1;
            }
            if x > column {
                runs.push(Run { column, row, length: x - column });
            }
            x += 1;
        }
    }
    let left = runs.iter().map(|run| run.column).min().unwrap_or(0);
    let top = runs.iter().map(|run| run.row).min().unwrap_or(0);
    let right = runs.iter().map(|run| run.column + run.length).max().unwrap_or(0);
    for run in &mut runs {
        (run.column, run.row) = (run.column - left, run.row - top);
    }
    Ok(Drawn { side: right - left, runs })
}

/// Eight digits, a space, eight digits.
fn halves(eui: &str) -> String {
    let (a, b) = eui.split_at(eui.len().min(8));
    format!("{a} {b}")
}

fn lines(label: &Printed) -> [(f64, f64, String); 5] {
    let name: String = label.name.chars().take(18).collect();
    [
        (3.4, 8.0, name),
        (2.3, 14.0, "DevEUI".into()),
        (2.6, 17.5, halves(&label.dev_eui)),
        (2.3, 23.0, "JoinEUI".into()),
        (2.6, 26.5, halves(&label.join_eui)),
    ]
}

/// Sheets as one SVG, below each other.
pub(crate) fn svg(labels: &[Printed]) -> Result<String, Problem> {
    let height = SHEET.1 * sheets(labels.len()) as f64;
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{0}mm\" height=\"{height}mm\" viewBox=\"0 0 {0} {height}\">\n\
         <rect width=\"100%\" height=\"100%\" fill=\"#fff\"/>\n",
        SHEET.0
    );
    for (n, label) in labels.iter().enumerate() {
        let (sheet, x, y) = place(n);
        let y = y + SHEET.1 * sheet as f64;
        let Drawn { side, runs } = drawn(&label.code)?;
        let module = CODE / (side + 2 * QUIET) as f64;
        let mut path = String::new();
        for Run { column, row, length } in runs {
            let _ = write!(path, "M{} {}h{length}v1h-{length}z", column + QUIET, row + QUIET);
        }
        let top = (LABEL.1 - CODE) / 2.0;
        let _ = writeln!(out, "<g transform=\"translate({x:.2} {y:.2})\"><title>{}</title>", escaped(&label.code));
        let _ = writeln!(out, "<path transform=\"translate(1 {top:.2}) scale({module:.4})\" d=\"{path}\"/>");
        for (size, down, text) in lines(label) {
            let font = if size == 2.6 { "monospace" } else { "sans-serif" };
            let left = CODE + 1.5;
            let text = escaped(&text);
            let _ = writeln!(
                out,
                "<text x=\"{left}\" y=\"{down}\" font-size=\"{size}\" font-family=\"{font}\">{text}</text>"
            );
        }
        out.push_str("</g>\n");
    }
    out.push_str("</svg>\n");
    Ok(out)
}

/// One code as a picture of its own, with its quiet zone.
pub(crate) fn code_svg(code: &str) -> Result<String, Problem> {
    let Drawn { side, runs } = drawn(code)?;
    let size = side + 2 * QUIET;
    let mut path = String::new();
    for Run { column, row, length } in runs {
        let _ = write!(path, "M{} {}h{length}v1h-{length}z", column + QUIET, row + QUIET);
    }
    Ok(format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {size} {size}\"><rect width=\"100%\" height=\"100%\" fill=\"#fff\"/><path d=\"{path}\"/></svg>"
    ))
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

/// Sheets as a PDF, a page each.
pub(crate) fn pdf(labels: &[Printed]) -> Result<Vec<u8>, Problem> {
    const POINTS: f64 = 72.0 / 25.4;
    let points = |mm: f64| (mm * POINTS) as f32;
    let (catalog, pages, sans, mono) = (Ref::new(1), Ref::new(2), Ref::new(3), Ref::new(4));
    let count = sheets(labels.len());
    let page = |n: usize| Ref::new(5 + 2 * n as i32);
    let content_of = |n: usize| Ref::new(6 + 2 * n as i32);
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(pages);
    pdf.pages(pages).kids((0..count).map(page)).count(count as i32);
    for n in 0..count {
        let mut written = pdf.page(page(n));
        written.media_box(Rect::new(0.0, 0.0, points(SHEET.0), points(SHEET.1)));
        written.parent(pages).contents(content_of(n));
        written.resources().fonts().pair(Name(b"S"), sans).pair(Name(b"M"), mono);
        written.finish();
        let mut content = Content::new();
        let first = n * COLUMNS * ROWS;
        for (n, label) in labels.iter().enumerate().skip(first).take(COLUMNS * ROWS) {
            let (_, x, y) = place(n);
            let Drawn { side, runs } = drawn(&label.code)?;
            let module = CODE / (side + 2 * QUIET) as f64;
            let (left, top) = (x + 1.0 + QUIET as f64 * module, y + (LABEL.1 - CODE) / 2.0 + QUIET as f64 * module);
            for Run { column, row, length } in runs {
                let from_below = SHEET.1 - (top + (row + 1) as f64 * module);
                let from_left = left + column as f64 * module;
                content.rect(points(from_left), points(from_below), points(length as f64 * module), points(module));
            }
            content.fill_nonzero();
            for (size, down, text) in lines(label) {
                let font = if size == 2.6 { Name(b"M") } else { Name(b"S") };
                content.begin_text().set_font(font, points(size));
                content.next_line(points(x + CODE + 1.5), points(SHEET.1 - y - down));
                // The fonts that every reader has know Latin letters only.
                let latin: Vec<u8> = text.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect();
                content.show(Str(&latin)).end_text();
            }
        }
        pdf.stream(content_of(n), &content.finish());
    }
    for (font, name) in [(sans, &b"Helvetica"[..]), (mono, b"Courier")] {
        pdf.type1_font(font).base_font(Name(name)).encoding_predefined(Name(b"WinAnsiEncoding"));
    }
    Ok(pdf.finish())
}

#[cfg(test)]
mod tests {
    use image::{GrayImage, ImageFormat, Luma, RgbImage, imageops};

    use std::time::Duration;

    use super::*;

    fn in_a_minute() -> Instant {
        Instant::now() + Duration::from_secs(60)
    }

    const CODE_TEXT: &str = "LW:D0:02AA000000000001:02BB00000000002A:FB010002";

    fn printed(n: u32) -> Printed {
        let dev_eui = format!("02bb0000{n:08x}");
        Printed { code: CODE_TEXT.into(), name: format!("gauge <{n}>"), dev_eui, join_eui: "02aa000000000001".into() }
    }

    /// A photo of a code: on a grey table, turned a little, unevenly lit.
    fn photo(code: &str, format: BarcodeFormat, size: u32) -> Vec<u8> {
        let bits = MultiFormatWriter.encode(code, &format, size as i32, size as i32).unwrap();
        let mut picture = GrayImage::from_pixel(900, 700, Luma([150]));
        for (x, y, pixel) in picture.enumerate_pixels_mut() {
            let (dx, dy) = (f64::from(x) - 450.0, f64::from(y) - 350.0);
            let (sin, cos) = 0.09_f64.sin_cos();
            let (u, v) = (dx * cos + dy * sin + f64::from(size) / 2.0, dy * cos - dx * sin + f64::from(size) / 2.0);
            let on_paper = u > -20.0 && v > -20.0 && u < f64::from(size) + 20.0 && v < f64::from(size) + 20.0;
            let inside = u >= 0.0 && v >= 0.0 && u < f64::from(bits.getWidth()) && v < f64::from(bits.getHeight());
            let light = 40 - (x / 30) as i32;
            if on_paper {
                let dark = inside && bits.get(u as u32, v as u32);
                pixel.0[0] = (if dark { 40 } else { 200 } + light) as u8;
            }
        }
        let picture = imageops::blur(&picture, 1.0);
        let mut jpeg = Vec::new();
        DynamicImage::ImageLuma8(picture).write_to(&mut Cursor::new(&mut jpeg), ImageFormat::Jpeg).unwrap();
        jpeg
    }

    #[test]
    fn codes_are_found_in_photos() {
        for format in [BarcodeFormat::QR_CODE, BarcodeFormat::DATA_MATRIX] {
            let found = in_photo(&photo(CODE_TEXT, format, 300), in_a_minute())
                .unwrap_or_else(|why| panic!("{format:?}: {why}"));
            assert_eq!((found.code.as_str(), found.label.vendor_id), (CODE_TEXT, 0xfb01));
        }
    }

    #[test]
    fn photos_without_a_devices_code_are_refused() {
        let mut png = Vec::new();
        DynamicImage::ImageRgb8(RgbImage::from_fn(640, 480, |x, y| image::Rgb([x as u8, y as u8, 90])))
            .write_to(&mut Cursor::new(&mut png), ImageFormat::Png)
            .unwrap();
        let why = in_photo(&png, in_a_minute()).unwrap_err();
        assert_eq!((why.code.as_str(), why.field.as_deref()), ("no_code", Some("photo")));
        let other =
            in_photo(&photo("https://example.org/manual", BarcodeFormat::QR_CODE, 300), in_a_minute()).unwrap_err();
        assert_eq!(other.code, "not_a_label");
        assert!(other.to_string().contains("LW:D0"), "{other}");
        assert_eq!(in_photo(b"no picture", in_a_minute()).unwrap_err().code, "bad_photo");
        assert_eq!(in_photo(&png[..200], in_a_minute()).unwrap_err().code, "bad_photo");
    }

    #[test]
    fn pictures_that_unpack_to_too_much_are_refused() {
        let mut png = Vec::new();
        let wide = GrayImage::new(MOST_ALONG + 1, 2);
        DynamicImage::ImageLuma8(wide).write_to(&mut Cursor::new(&mut png), ImageFormat::Png).unwrap();
        assert_eq!(in_photo(&png, in_a_minute()).unwrap_err().code, "bad_photo");
    }

    #[test]
    fn a_printed_label_reads_back() {
        let Drawn { side, runs } = drawn(CODE_TEXT).unwrap();
        let scale = 6;
        let size = (side + 2 * QUIET) as u32 * scale;
        let mut picture = GrayImage::from_pixel(size, size, Luma([255]));
        for Run { column: x, row: y, length } in runs {
            for (dx, dy) in (0..length as u32 * scale).flat_map(|dx| (0..scale).map(move |dy| (dx, dy))) {
                let (x, y) = ((x + QUIET) as u32 * scale + dx, (y + QUIET) as u32 * scale + dy);
                picture.put_pixel(x, y, Luma([0]));
            }
        }
        let mut png = Vec::new();
        DynamicImage::ImageLuma8(picture).write_to(&mut Cursor::new(&mut png), ImageFormat::Png).unwrap();
        assert_eq!(in_photo(&png, in_a_minute()).unwrap().code, CODE_TEXT);
    }

    #[test]
    fn sheets_hold_twenty_one_labels() {
        let labels: Vec<Printed> = (0..22).map(printed).collect();
        let drawn = svg(&labels).unwrap();
        assert_eq!(drawn.matches("<g ").count(), 22);
        assert!(
            drawn.contains("height=\"594mm\"") && drawn.contains("gauge &lt;3&gt;"),
            "two sheets, nothing unescaped"
        );
        let pdf = pdf(&labels).unwrap();
        assert!(pdf.starts_with(b"%PDF-") && pdf.windows(8).any(|w| w == b"/Count 2"));
        for n in 0..21 {
            let (sheet, x, y) = place(n);
            assert!(sheet == 0 && x + LABEL.0 < SHEET.0 && y + LABEL.1 < SHEET.1, "{n}");
        }
    }
}
