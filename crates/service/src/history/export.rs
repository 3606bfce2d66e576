//! Readings written out as CSV, JSON Lines or Parquet, a part at a time: an export of a year holds no more in memory
//! than one of a day.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::{Arc, Mutex, PoisonError};

use anyhow::Result;
use axum::body::Bytes;
use chrono::{DateTime, SecondsFormat};
use domain::csv::guarded;
use domain::reading::rule::word_of;
use parquet::basic::Compression;
use parquet::data_type::{ByteArray, ByteArrayType, DataType, DoubleType, Int64Type};
use parquet::file::properties::WriterProperties;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::parser::parse_message_type;
use serde::Serialize;
use store::{Point, SeriesId, Store};
use tokio::sync::mpsc;

/// Values read at once.
const PAGE: u32 = 5000;
/// Values of one group of rows of a Parquet file.
const GROUP: usize = 100_000;

/// How readings are written out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    Csv,
    JsonLines,
    Parquet,
}

impl Form {
    pub(crate) const ALL: [Self; 3] = [Self::Csv, Self::JsonLines, Self::Parquet];

    /// As it is asked for, and as files of it end.
    pub(crate) const fn name(self) -> &'static str {
        match self {
            Self::Csv => "csv",
            Self::JsonLines => "jsonl",
            Self::Parquet => "parquet",
        }
    }

    pub(crate) const fn content_type(self) -> &'static str {
        match self {
            Self::Csv => "text/csv; charset=utf-8",
            Self::JsonLines => "application/x-ndjson",
            Self::Parquet => "application/vnd.apache.parquet",
        }
    }
}

/// A reading of a device, to be written out.
#[derive(Debug, Clone)]
pub(crate) struct Column {
    pub series: SeriesId,
    pub device: String,
    pub dev_eui: String,
    pub reading: String,
    pub unit: Option<String>,
    /// Words for its values.
    pub words: BTreeMap<String, String>,
}

impl Column {
    /// Puts the words for values in their place.
    fn put_words(&self, points: &mut [Point]) {
        if self.words.is_empty() {
            return;
        }
        for point in points {
            if let Some(word) = word_of(&self.words, point.value, point.word.as_deref()) {
                point.word = Some(word);
            }
        }
    }
}

#[derive(Serialize)]
struct Row<'a> {
    time: &'a str,
    device: &'a str,
    dev_eui: &'a str,
    reading: &'a str,
    value: Option<f64>,
    text: Option<&'a str>,
    unit: Option<&'a str>,
}

fn time(at_ms: i64) -> String {
    DateTime::from_timestamp_millis(at_ms)
        .map_or_else(String::new, |at| at.to_rfc3339_opts(SecondsFormat::Millis, true))
}

/// Writes values in one form.
trait Writer: Send {
    fn write(&mut self, column: &Column, points: &[Point]) -> Result<()>;

    /// The bytes that are ready to be sent.
    fn take(&mut self) -> Vec<u8>;

    fn finish(&mut self) -> Result<()>;
}

struct Csv(csv::Writer<Vec<u8>>);

impl Csv {
    fn new() -> Result<Self> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        writer.write_record(["time", "device", "dev_eui", "reading", "value", "text", "unit"])?;
        Ok(Self(writer))
    }
}

impl Writer for Csv {
    fn write(&mut self, column: &Column, points: &[Point]) -> Result<()> {
        let (device, reading) = (guarded(&column.device), guarded(&column.reading));
        let unit = guarded(column.unit.as_deref().unwrap_or_default());
        for point in points {
            // A negative number is not a formula.
            let value = point.value.map_or_else(String::new, |value| value.to_string());
            let text = guarded(point.word.as_deref().unwrap_or_default());
            let at = time(point.at_ms);
            self.0.write_record([&*at, &*device, &column.dev_eui, &*reading, &value, &*text, &*unit])?;
        }
        Ok(())
    }

    fn take(&mut self) -> Vec<u8> {
        let written = std::mem::replace(&mut self.0, csv::Writer::from_writer(Vec::new()));
        written.into_inner().unwrap_or_default()
    }

    fn finish(&mut self) -> Result<()> {
        Ok(())
    }
}

struct JsonLines(Vec<u8>);

impl Writer for JsonLines {
    fn write(&mut self, column: &Column, points: &[Point]) -> Result<()> {
        for point in points {
            let row = Row {
                time: &time(point.at_ms),
                device: &column.device,
                dev_eui: &column.dev_eui,
                reading: &column.reading,
                value: point.value,
                text: point.word.as_deref(),
                unit: column.unit.as_deref(),
            };
            serde_json::to_writer(&mut self.0, &row)?;
            self.0.push(b'\n');
        }
        Ok(())
    }

    fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut self.0)
    }

    fn finish(&mut self) -> Result<()> {
        Ok(())
    }
}

/// The buffer that a Parquet writer fills, and that is emptied while it goes on.
#[derive(Clone, Default)]
struct Sink(Arc<Mutex<Vec<u8>>>);

impl Write for Sink {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

const SCHEMA: &str = "message readings {
    REQUIRED INT64 time (TIMESTAMP(MILLIS, true));
    REQUIRED BYTE_ARRAY device (STRING);
    REQUIRED BYTE_ARRAY dev_eui (STRING);
    REQUIRED BYTE_ARRAY reading (STRING);
    OPTIONAL DOUBLE value;
    OPTIONAL BYTE_ARRAY text (STRING);
    OPTIONAL BYTE_ARRAY unit (STRING);
}";

struct Parquet {
    sink: Sink,
    writer: Option<SerializedFileWriter<Sink>>,
    rows: Vec<(Arc<Column>, Point)>,
}

impl Parquet {
    fn new() -> Result<Self> {
        let sink = Sink::default();
        let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
        let schema = Arc::new(parse_message_type(SCHEMA)?);
        let writer = SerializedFileWriter::new(sink.clone(), schema, Arc::new(properties))?;
        Ok(Self { sink, writer: Some(writer), rows: Vec::new() })
    }

    fn group(&mut self) -> Result<()> {
        let Some(writer) = self.writer.as_mut().filter(|_| !self.rows.is_empty()) else { return Ok(()) };
        let rows = std::mem::take(&mut self.rows);
        let mut group = writer.next_row_group()?;
        let text = |text: &str| Some(ByteArray::from(text));
        next::<Int64Type>(&mut group, rows.iter().map(|(_, point)| Some(point.at_ms)), true)?;
        next::<ByteArrayType>(&mut group, rows.iter().map(|(column, _)| text(&column.device)), true)?;
        next::<ByteArrayType>(&mut group, rows.iter().map(|(column, _)| text(&column.dev_eui)), true)?;
        next::<ByteArrayType>(&mut group, rows.iter().map(|(column, _)| text(&column.reading)), true)?;
        next::<DoubleType>(&mut group, rows.iter().map(|(_, point)| point.value), false)?;
        next::<ByteArrayType>(&mut group, rows.iter().map(|(_, point)| point.word.as_deref().and_then(text)), false)?;
        next::<ByteArrayType>(&mut group, rows.iter().map(|(column, _)| column.unit.as_deref().and_then(text)), false)?;
        group.close()?;
        Ok(())
    }
}

/// Writes the next column of a group.
fn next<T: DataType>(
    group: &mut parquet::file::writer::SerializedRowGroupWriter<'_, Sink>,
    values: impl Iterator<Item = Option<T::T>>,
    required: bool,
) -> Result<()> {
    let Some(mut column) = group.next_column()? else { anyhow::bail!("the schema has no more columns") };
    let (mut there, mut levels) = (Vec::new(), Vec::new());
    for value in values {
        levels.push(i16::from(value.is_some()));
        there.extend(value);
    }
    column.typed::<T>().write_batch(&there, (!required).then_some(&*levels), None)?;
    column.close()?;
    Ok(())
}

impl Writer for Parquet {
    fn write(&mut self, column: &Column, points: &[Point]) -> Result<()> {
        let column = Arc::new(column.clone());
        self.rows.extend(points.iter().map(|point| (Arc::clone(&column), point.clone())));
        if self.rows.len() >= GROUP { self.group() } else { Ok(()) }
    }

    fn take(&mut self) -> Vec<u8> {
        std::mem::take(&mut *self.sink.0.lock().unwrap_or_else(PoisonError::into_inner))
    }

    fn finish(&mut self) -> Result<()> {
        self.group()?;
        if let Some(writer) = self.writer.take() {
            writer.close()?;
        }
        Ok(())
    }
}

fn writer(form: Form) -> Result<Box<dyn Writer>> {
    Ok(match form {
        Form::Csv => Box::new(Csv::new()?),
        Form::JsonLines => Box::new(JsonLines(Vec::new())),
        Form::Parquet => Box::new(Parquet::new()?),
    })
}

/// Writes readings out, as long as the receiver takes them.
///
/// # Errors
/// If the database does not answer; what was sent until then is not whole.
pub(crate) async fn export(
    store: &Store,
    form: Form,
    columns: &[Column],
    (from_ms, until_ms): (i64, i64),
    to: &mpsc::Sender<Result<Bytes, std::io::Error>>,
) -> Result<()> {
    let mut writer = writer(form)?;
    for column in columns {
        let mut from_ms = from_ms;
        loop {
            let mut points = store.points(column.series, from_ms, until_ms, PAGE).await?;
            let Some(last) = points.last() else { break };
            from_ms = last.at_ms + 1;
            column.put_words(&mut points);
            writer.write(column, &points)?;
            let written = writer.take();
            if !written.is_empty() && to.send(Ok(written.into())).await.is_err() {
                return Ok(());
            }
            if points.len() < PAGE as usize {
                break;
            }
        }
    }
    writer.finish()?;
    let _ = to.send(Ok(writer.take().into())).await;
    Ok(())
}

#[cfg(test)]
mod tests {
    use parquet::file::reader::{FileReader as _, SerializedFileReader};
    use parquet::record::RowAccessor as _;

    use super::*;

    fn written(form: Form) -> Vec<u8> {
        let column = Column {
            series: 1,
            device: "=tide, 01".into(),
            dev_eui: "02b0000000000001".into(),
            reading: "level".into(),
            unit: Some("m".into()),
            words: BTreeMap::from([("ebb".to_owned(), "falling".to_owned()), ("-2.5".to_owned(), "low".to_owned())]),
        };
        let point = |at_ms, value, word: Option<&str>| Point { at_ms, value, word: word.map(Into::into) };
        let mut writer = writer(form).unwrap();
        let mut out = writer.take();
        let mut points = [point(0, Some(-2.5), None), point(1500, None, Some("ebb"))];
        column.put_words(&mut points);
        writer.write(&column, &points).unwrap();
        writer.finish().unwrap();
        out.append(&mut writer.take());
        out
    }

    #[test]
    fn csv_has_a_line_a_value_and_no_formula() {
        let text = String::from_utf8(written(Form::Csv)).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!(lines[0], "time,device,dev_eui,reading,value,text,unit");
        assert_eq!(lines[1], "1970-01-01T00:00:00.000Z,\"'=tide, 01\",02b0000000000001,level,-2.5,low,m");
        assert_eq!(lines[2], "1970-01-01T00:00:01.500Z,\"'=tide, 01\",02b0000000000001,level,,falling,m");
    }

    #[test]
    fn json_lines_are_whole_objects() {
        let text = String::from_utf8(written(Form::JsonLines)).unwrap();
        let rows: Vec<serde_json::Value> = text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        assert_eq!((rows.len(), &rows[0]["value"], &rows[1]["text"]), (2, &(-2.5).into(), &"falling".into()));
        assert_eq!(rows[0]["device"], "=tide, 01");
    }

    #[test]
    fn parquet_reads_back() {
        let reader = SerializedFileReader::new(Bytes::from(written(Form::Parquet))).unwrap();
        let rows: Vec<_> = reader.get_row_iter(None).unwrap().map(Result::unwrap).collect();
        assert_eq!(rows.len(), 2);
        assert_eq!((rows[0].get_double(4).unwrap(), rows[0].get_string(1).unwrap().as_str()), (-2.5, "=tide, 01"));
        assert_eq!(
            (rows[1].get_string(5).unwrap().as_str(), rows[1].get_timestamp_millis(0).unwrap()),
            ("falling", 1500)
        );
        assert!(rows[1].get_double(4).is_err(), "there is none");
    }
}
