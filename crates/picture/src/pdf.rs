//! Scenes as pages of a PDF 1.7 document (ISO 32000-1), with the font embedded and text that can be searched and copied.

use flate2::Compression;
use flate2::write::ZlibEncoder;
use pdf_writer::types::{CidFontType, FontFlags, SystemInfo, UnicodeCmap};
use pdf_writer::{Content, Filter, Finish, Name, Pdf, Rect, Ref, Str, TextStr};
use std::io::Write;

use crate::font::{self, Subset};
use crate::scene::{Anchor, Item, Look, Mark, Paint, Scene};
use crate::svg::{is_filled, outlines, texts};

/// The sides of a sheet of A4 on its long side, in points.
pub const A4: (f32, f32) = (841.89, 595.28);

/// How far a curve's handles are from its ends for a quarter of a circle of radius 1.
const ROUND: f32 = 0.552_285;

/// Writes scenes, a page for each. The bytes are the same for the same scenes.
pub fn write(scenes: &[Scene], look: Look) -> Vec<u8> {
    let subset = Subset::of(scenes.iter().flat_map(texts));
    let mut next = 0;
    let mut id = || {
        next += 1;
        Ref::new(next)
    };
    let (catalog, tree, info) = (id(), id(), id());
    let font = Font { outer: id(), inner: id(), descriptor: id(), file: id(), unicode: id() };
    let mut pdf = Pdf::new();
    pdf.catalog(catalog).pages(tree).lang(TextStr("en"));
    let title = scenes.first().map_or("", |scene| scene.title.as_str());
    let about = scenes.first().map_or("", |scene| scene.about.as_str());
    pdf.document_info(info).title(TextStr(title)).subject(TextStr(about)).creator(TextStr("Jaunty Quill"));
    let pages: Vec<(Ref, Ref)> = scenes.iter().map(|_| (id(), id())).collect();
    pdf.pages(tree).kids(pages.iter().map(|(page, _)| *page)).count(i32::try_from(pages.len()).unwrap_or(i32::MAX));
    for (scene, (page, contents)) in scenes.iter().zip(&pages) {
        let mut written = pdf.page(*page);
        written.parent(tree).media_box(Rect::new(0.0, 0.0, scene.width, scene.height)).contents(*contents);
        written.resources().fonts().pair(Name(b"F"), font.outer);
        written.finish();
        let content = compressed(&content(scene, look, &subset));
        pdf.stream(*contents, &content).filter(Filter::FlateDecode);
    }
    font.write(&subset, &mut pdf);
    pdf.finish()
}

fn compressed(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = ZlibEncoder::new(Vec::new(), Compression::default());
    // Writing to memory never fails.
    let _ = encoder.write_all(bytes);
    encoder.finish().unwrap_or_default()
}

struct Font {
    outer: Ref,
    inner: Ref,
    descriptor: Ref,
    file: Ref,
    unicode: Ref,
}

impl Font {
    fn write(&self, subset: &Subset, pdf: &mut Pdf) {
        // Six letters before the name say that it is a part (9.6.4).
        const PART: Name<'static> = Name(b"JQPART+DejaVuSansMono");
        let system = SystemInfo { registry: Str(b"Adobe"), ordering: Str(b"Identity"), supplement: 0 };
        pdf.type0_font(self.outer)
            .base_font(PART)
            .encoding_predefined(Name(b"Identity-H"))
            .descendant_font(self.inner)
            .to_unicode(self.unicode);
        pdf.cid_font(self.inner)
            .subtype(CidFontType::Type2)
            .base_font(PART)
            .system_info(system)
            .font_descriptor(self.descriptor)
            // A whole number, as the standard has it (table 117); readers take another as none.
            .default_width((font::ADVANCE * 1000.0).round())
            .cid_to_gid_map_predefined(Name(b"Identity"));
        pdf.font_descriptor(self.descriptor)
            .name(PART)
            .flags(FontFlags::FIXED_PITCH | FontFlags::SYMBOLIC)
            .bbox(Rect::new(-558.0, -375.0, 718.0, 1042.0))
            .italic_angle(0.0)
            .ascent(928.0)
            .descent(-236.0)
            .cap_height(729.0)
            .stem_v(80.0)
            .font_file2(self.file);
        let file = compressed(subset.file());
        let mut stream = pdf.stream(self.file, &file);
        stream.filter(Filter::FlateDecode);
        stream.pair(Name(b"Length1"), i32::try_from(subset.file().len()).unwrap_or(i32::MAX));
        stream.finish();
        let mut unicode = UnicodeCmap::new(Name(b"JQ-UTF16"), system);
        for (c, glyph) in subset.characters() {
            unicode.pair(glyph, c);
        }
        pdf.cmap(self.unicode, &unicode.finish());
    }
}

/// What is painted on a page, in the operators of chapter 8 and 9.
fn content(scene: &Scene, look: Look, subset: &Subset) -> Vec<u8> {
    let mut content = Content::new();
    let part = |colour: u8| f32::from(colour) / 255.0;
    let fill = |content: &mut Content, paint: Paint| {
        let [red, green, blue] = look.colour(paint);
        content.set_fill_rgb(part(red), part(green), part(blue));
    };
    let stroke = |content: &mut Content, paint: Paint| {
        let [red, green, blue] = look.colour(paint);
        content.set_stroke_rgb(part(red), part(green), part(blue));
    };
    // Pages have their origin at the lower left corner.
    let up = |y: f32| scene.height - y;
    fill(&mut content, Paint::Ground);
    content.rect(0.0, 0.0, scene.width, scene.height).fill_nonzero();
    for item in &scene.items {
        match item {
            Item::Rect { x, y, width, height, paint } => {
                fill(&mut content, *paint);
                content.rect(*x, up(y + height), *width, *height).fill_nonzero();
            }
            Item::Line { points, paint, width, dashed } => {
                stroke(&mut content, *paint);
                content.set_line_width(*width).set_line_join(pdf_writer::types::LineJoinStyle::RoundJoin);
                content.set_dash_pattern(
                    if *dashed { [3.0, 3.0].into_iter() } else { [0.0; 2].into_iter() }.filter(|n| *n > 0.0),
                    0.0,
                );
                along(&mut content, points, up);
                content.stroke();
            }
            Item::Area { points, paint } => {
                fill(&mut content, *paint);
                along(&mut content, points, up);
                content.close_path().fill_nonzero();
            }
            Item::Marks { points, paint, mark } => {
                fill(&mut content, *paint);
                stroke(&mut content, *paint);
                content.set_line_width(1.4).set_dash_pattern([], 0.0);
                for (x, y) in points {
                    match mark {
                        Mark::Dot => circle(&mut content, *x, up(*y), 0.8),
                        Mark::Shape(shape) if shape % 8 == 0 => circle(&mut content, *x, up(*y), 3.0),
                        Mark::Shape(shape) => {
                            for (outline, closed) in outlines(*shape, *x, *y) {
                                along(&mut content, &outline, up);
                                if closed {
                                    content.close_path();
                                }
                            }
                        }
                    }
                }
                match mark {
                    _ if points.is_empty() => {}
                    Mark::Shape(shape) if shape % 8 != 0 && !is_filled(*shape) => drop(content.stroke()),
                    _ => drop(content.fill_nonzero()),
                }
            }
            Item::Text { x, y, text, anchor, paint, strong } => {
                fill(&mut content, *paint);
                let size = if *strong { font::STRONG } else { font::SIZE };
                let width = text.chars().count() as f32 * size * font::ADVANCE;
                let x = match anchor {
                    Anchor::Start => *x,
                    Anchor::Middle => x - width / 2.0,
                    Anchor::End => x - width,
                };
                let glyphs: Vec<u8> = text.chars().flat_map(|c| subset.glyph(c).to_be_bytes()).collect();
                content.begin_text().set_font(Name(b"F"), size);
                content.next_line(x, up(y + font::baseline(*strong))).show(Str(&glyphs)).end_text();
            }
        }
    }
    content.finish().to_vec()
}

fn along(content: &mut Content, points: &[(f32, f32)], up: impl Fn(f32) -> f32) {
    for (at, (x, y)) in points.iter().enumerate() {
        match at {
            0 => content.move_to(*x, up(*y)),
            _ => content.line_to(*x, up(*y)),
        };
    }
}

fn circle(content: &mut Content, x: f32, y: f32, r: f32) {
    let k = r * ROUND;
    content.move_to(x + r, y);
    content.cubic_to(x + r, y + k, x + k, y + r, x, y + r);
    content.cubic_to(x - k, y + r, x - r, y + k, x - r, y);
    content.cubic_to(x - r, y - k, x - k, y - r, x, y - r);
    content.cubic_to(x + k, y - r, x + r, y - k, x + r, y);
    content.close_path();
}
