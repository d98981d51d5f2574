//! Drawings as pictures of points.

use resvg::tiny_skia::{Pixmap, Transform};
use resvg::usvg::{Options, Tree, fontdb};

use crate::failure::{Failure, Kind};

/// Points for each unit of a drawing.
const SCALE: f32 = 2.0;

/// Fonts of this PC: without any, drawings would have no words.
pub(crate) struct Fonts(Options<'static>);

impl Fonts {
    /// Looks for them; nothing where there are none.
    pub(crate) fn of_this_pc() -> Option<Self> {
        let mut options = Options::default();
        let fonts = options.fontdb_mut();
        fonts.load_system_fonts();
        let is_plain = |face: &&fontdb::FaceInfo| {
            face.style == fontdb::Style::Normal && face.weight == fontdb::Weight::NORMAL
        };
        let families = fonts.faces().filter(is_plain).flat_map(|face| &face.families);
        let all: Vec<String> = families.map(|(name, _)| name.clone()).collect();
        // Faces whose name says that they have no serifs are read best at a small size.
        let sans = all
            .iter()
            .find(|name| name.contains("Sans") || *name == "Segoe UI" || *name == "Arial");
        let family = sans.or(all.first())?.clone();
        fonts.set_sans_serif_family(family);
        Some(Self(options))
    }

    /// A drawing as a PNG file.
    pub(crate) fn png(&self, svg: &str) -> Result<Vec<u8>, Failure> {
        let failed = |reason: String| {
            Failure::new(Kind::Internal, format!("a drawing cannot be made a picture: {reason}"))
        };
        let tree = Tree::from_str(svg, &self.0).map_err(|error| failed(error.to_string()))?;
        let size = tree.size().to_int_size().scale_by(SCALE);
        let size = size.ok_or_else(|| failed("it has no size".to_owned()))?;
        let mut picture = Pixmap::new(size.width(), size.height())
            .ok_or_else(|| failed("it is too large".to_owned()))?;
        resvg::render(&tree, Transform::from_scale(SCALE, SCALE), &mut picture.as_mut());
        picture.encode_png().map_err(|error| failed(error.to_string()))
    }
}
