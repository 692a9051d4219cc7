//! Charts as files: rows are put together as they come, and the picture is written when they have all come.

use std::io::Write;
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_schema::Schema;
use jaunty_picture::{Metrics, pdf, svg};

use super::{ExportError, Exporter, Format, Options};
use crate::chart::plot::{Texts, draw, natural_height};
use crate::chart::spec::Size;
use crate::chart::{ChartError, Gather, Spec};

impl From<ChartError> for ExportError {
    fn from(error: ChartError) -> ExportError {
        ExportError::Format(error.to_string())
    }
}

/// A chart.
pub(super) struct Picture {
    format: Format,
    spec: Spec,
    texts: Texts,
    gather: Option<Gather>,
}

impl Picture {
    pub(super) fn new(format: Format, options: &Options) -> Picture {
        Picture { format, spec: options.chart.clone(), texts: options.texts.clone(), gather: None }
    }
}

impl Exporter for Picture {
    fn columns(&mut self, schema: &Schema, _: &mut dyn Write) -> Result<(), ExportError> {
        self.gather = Some(Gather::new(self.spec.clone(), Arc::new(schema.clone())));
        Ok(())
    }

    fn batch(&mut self, batch: &RecordBatch, _: &mut dyn Write) -> Result<(), ExportError> {
        match &mut self.gather {
            Some(gather) => Ok(gather.take(batch)?),
            None => Ok(()),
        }
    }

    fn finish(&mut self, out: &mut dyn Write) -> Result<(), ExportError> {
        let Some(gather) = self.gather.take() else { return Ok(()) };
        let data = gather.finish()?;
        let usual = Size::default();
        let size = match self.spec.size {
            Some(size) => (size.width, size.height),
            None => (usual.width, natural_height(&data, &self.spec, usual.height)),
        };
        let scene = draw(&data, &self.spec, &self.texts, size, Metrics::PAPER).scene;
        match self.format {
            Format::Pdf => out.write_all(&pdf::write(&[scene], self.spec.look))?,
            _ => out.write_all(svg::write(&scene, self.spec.look).as_bytes())?,
        }
        Ok(())
    }
}
