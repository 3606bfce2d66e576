//! Pictures of computed things, as shapes that are written as SVG or PNG.

use std::path::Path;

use anyhow::{Context as _, Result, bail};
use embedded_graphics::geometry::{OriginDimensions, Point, Size};
use embedded_graphics::mono_font::MonoTextStyle;
use embedded_graphics::mono_font::iso_8859_1::{FONT_9X15, FONT_9X15_BOLD};
use embedded_graphics::pixelcolor::{Rgb888, RgbColor as _};
use embedded_graphics::prelude::{DrawTarget, Drawable as _, Pixel, Primitive as _};
use embedded_graphics::primitives::{Line, PrimitiveStyle};
use embedded_graphics::text::{Alignment, Text};
use image::imageops::FilterType;
use image::{ImageFormat, Rgb, RgbImage};
use svg::Document;
use svg::node::element;

/// A colour: red, green and blue.
pub(super) type Colour = [u8; 3];

/// Where a text stands beside its point.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum Beside {
    /// Before it.
    Left,
    /// Around it.
    Middle,
    /// Behind it.
    Right,
}

/// Something that is drawn.
pub(super) enum Shape {
    /// The space between two lines over the same steps from left to right: for each the place, and where it begins and ends.
    Band(Vec<(f64, f64, f64)>, Colour),
    /// A line through points.
    Line(Vec<(f64, f64)>, Colour, u32),
    /// A text at a point, bold or not.
    Text((f64, f64), Beside, String, Colour, bool),
}

/// A picture, in points from its upper left corner.
pub(super) struct Picture {
    /// Its width.
    pub width: u32,
    /// Its height.
    pub height: u32,
    /// The ground that it is drawn on.
    pub ground: Colour,
    /// What is drawn, in this order.
    pub shapes: Vec<Shape>,
}

/// The formats of pictures.
#[derive(Clone, Copy)]
pub(super) enum PictureForm {
    Svg,
    Png,
}

impl PictureForm {
    /// The format that a file's name asks for.
    pub(super) fn of(path: &Path) -> Result<Self> {
        match path.extension().and_then(|ending| ending.to_str()) {
            Some("svg") => Ok(Self::Svg),
            Some("png") => Ok(Self::Png),
            _ => bail!("{}: a name that ends with .png or .svg is wanted", path.display()),
        }
    }
}

fn css([red, green, blue]: Colour) -> String {
    format!("#{red:02x}{green:02x}{blue:02x}")
}

impl Picture {
    /// The picture as a file.
    pub(super) fn bytes(&self, form: PictureForm) -> Result<Vec<u8>> {
        match form {
            PictureForm::Svg => Ok(self.svg().to_string().into_bytes()),
            PictureForm::Png => self.png(),
        }
    }

    /// The picture as PNG, so many times as large.
    pub(super) fn enlarged(&self, scale: u32) -> Result<Vec<u8>> {
        let once = self.png()?;
        if scale <= 1 {
            return Ok(once);
        }
        let image = image::load_from_memory(&once)?;
        let larger = image::imageops::resize(&image, self.width * scale, self.height * scale, FilterType::Nearest);
        let mut bytes = std::io::Cursor::new(Vec::new());
        larger.write_to(&mut bytes, ImageFormat::Png)?;
        Ok(bytes.into_inner())
    }

    fn svg(&self) -> Document {
        let back = element::Rectangle::new().set("width", "100%").set("height", "100%").set("fill", css(self.ground));
        let mut document = Document::new().set("viewBox", (0, 0, self.width, self.height)).add(back);
        let points = |all: &mut dyn Iterator<Item = (f64, f64)>| {
            all.map(|(x, y)| format!("{x:.1},{y:.1}")).collect::<Vec<_>>().join(" ")
        };
        for shape in &self.shapes {
            document = match shape {
                Shape::Band(steps, colour) => {
                    let there = steps.iter().map(|&(x, from, _)| (x, from));
                    let back = steps.iter().rev().map(|&(x, _, to)| (x, to));
                    let polygon = element::Polygon::new().set("points", points(&mut there.chain(back)));
                    document.add(polygon.set("fill", css(*colour)))
                }
                Shape::Line(all, colour, width) => document.add(
                    element::Polyline::new()
                        .set("points", points(&mut all.iter().copied()))
                        .set("fill", "none")
                        .set("stroke", css(*colour))
                        .set("stroke-width", *width),
                ),
                Shape::Text((x, y), beside, text, colour, bold) => {
                    let anchor = match beside {
                        Beside::Left => "end",
                        Beside::Middle => "middle",
                        Beside::Right => "start",
                    };
                    document.add(
                        element::Text::new(text)
                            .set("x", format!("{x:.1}"))
                            .set("y", format!("{y:.1}"))
                            .set("fill", css(*colour))
                            .set("font-family", "sans-serif")
                            .set("font-size", 15)
                            .set("font-weight", if *bold { "bold" } else { "normal" })
                            .set("text-anchor", anchor),
                    )
                }
            };
        }
        document
    }

    fn png(&self) -> Result<Vec<u8>> {
        let mut canvas = Canvas(RgbImage::from_pixel(self.width, self.height, Rgb(self.ground)));
        for shape in &self.shapes {
            match shape {
                Shape::Band(steps, colour) => band(&mut canvas, steps, *colour),
                Shape::Line(all, colour, width) => {
                    let style = PrimitiveStyle::with_stroke(rgb(*colour), *width);
                    for pair in all.windows(2) {
                        let _ = Line::new(point(pair[0]), point(pair[1])).into_styled(style).draw(&mut canvas);
                    }
                }
                Shape::Text(at, beside, text, colour, bold) => {
                    let font = if *bold { &FONT_9X15_BOLD } else { &FONT_9X15 };
                    let alignment = match beside {
                        Beside::Left => Alignment::Right,
                        Beside::Middle => Alignment::Center,
                        Beside::Right => Alignment::Left,
                    };
                    let style = MonoTextStyle::new(font, rgb(*colour));
                    let _ = Text::with_alignment(text, point(*at), style, alignment).draw(&mut canvas);
                }
            }
        }
        let mut bytes = std::io::Cursor::new(Vec::new());
        canvas.0.write_to(&mut bytes, ImageFormat::Png).context("the picture cannot be written")?;
        Ok(bytes.into_inner())
    }
}

/// Fills a band column by column.
fn band(canvas: &mut Canvas, steps: &[(f64, f64, f64)], colour: Colour) {
    for pair in steps.windows(2) {
        let ((x0, from0, to0), (x1, from1, to1)) = (pair[0], pair[1]);
        for x in x0.round() as i32..=x1.round() as i32 {
            let share = ((f64::from(x) - x0) / (x1 - x0).max(1e-9)).clamp(0.0, 1.0);
            let (from, to) = (from0 + (from1 - from0) * share, to0 + (to1 - to0) * share);
            for y in from.min(to).round() as i32..from.max(to).round() as i32 {
                canvas.put(Point::new(x, y), colour);
            }
        }
    }
}

fn rgb([red, green, blue]: Colour) -> Rgb888 {
    Rgb888::new(red, green, blue)
}

fn point((x, y): (f64, f64)) -> Point {
    Point::new(x.round() as i32, y.round() as i32)
}

/// Where a picture is drawn as pixels; what lies outside is left away.
struct Canvas(RgbImage);

impl Canvas {
    fn put(&mut self, at: Point, colour: Colour) {
        if let (Ok(x), Ok(y)) = (u32::try_from(at.x), u32::try_from(at.y))
            && let Some(pixel) = self.0.get_pixel_mut_checked(x, y)
        {
            *pixel = Rgb(colour);
        }
    }
}

impl OriginDimensions for Canvas {
    fn size(&self) -> Size {
        Size::new(self.0.width(), self.0.height())
    }
}

impl DrawTarget for Canvas {
    type Color = Rgb888;
    type Error = std::convert::Infallible;

    fn draw_iter<I: IntoIterator<Item = Pixel<Rgb888>>>(&mut self, pixels: I) -> Result<(), Self::Error> {
        for Pixel(at, colour) in pixels {
            self.put(at, [colour.r(), colour.g(), colour.b()]);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_picture_is_the_same_shapes_in_both_forms() {
        let picture = Picture {
            width: 120,
            height: 60,
            ground: [255, 255, 255],
            shapes: vec![
                Shape::Band(vec![(0.0, 30.0, 60.0), (120.0, 30.0, 60.0)], [10, 120, 10]),
                Shape::Line(vec![(0.0, 10.0), (500.0, 10.0)], [200, 0, 0], 1),
                Shape::Text((60.0, 25.0), Beside::Middle, "4.5 km <ridge>".into(), [0, 0, 0], false),
            ],
        };
        let svg = String::from_utf8(picture.bytes(PictureForm::Svg).unwrap()).unwrap();
        assert!(svg.contains("viewBox=\"0 0 120 60\"") && svg.contains("4.5 km &lt;ridge&gt;"), "{svg}");
        let png = image::load_from_memory(&picture.bytes(PictureForm::Png).unwrap()).unwrap().to_rgb8();
        assert_eq!(
            (png.dimensions(), png.get_pixel(60, 45).0, png.get_pixel(119, 10).0),
            ((120, 60), [10, 120, 10], [200, 0, 0])
        );
        let dark = png.pixels().filter(|pixel| pixel.0 == [0, 0, 0]).count();
        assert!(dark > 100, "the text: {dark}");
        assert!(PictureForm::of(Path::new("a.gif")).is_err_and(|why| why.to_string().contains(".png or .svg")));
    }
}
