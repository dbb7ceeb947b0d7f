//! Tables of whole numbers as Parquet files: the one shape that blocks and served files share.
//!
//! Columns are delta-packed and zstd-compressed, without dictionaries but for words: bars
//! are numbers that move in small steps, and constant columns pack to almost nothing.

use mizuno_core::{bar::Digits, decimal::power, numbers::Numbers};
use parquet::{
    basic::{Compression, Encoding, LogicalType, Repetition, Type as Physical, ZstdLevel},
    column::writer::{ColumnWriter, ColumnWriterImpl},
    data_type::{ByteArray, ByteArrayType, FixedLenByteArray, Int32Type},
    errors::Result,
    file::{
        metadata::KeyValue,
        properties::{EnabledStatistics, WriterProperties, WriterPropertiesPtr, WriterVersion},
        writer::SerializedFileWriter,
    },
    schema::types::{ColumnPath, Type, TypePtr},
};
use std::{io::Write, sync::Arc};

/// What a column's whole numbers mean.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Microseconds since the epoch, UTC.
    Instant,
    /// Days since the epoch.
    Date,
    /// A decimal number with this many digits after the point, 18 in all.
    Decimal(u8),
    /// A decimal number with this many digits after the point, 38 in all.
    WideDecimal(u8),
    /// A whole number that has few values.
    Code,
    /// A plain whole number.
    Whole,
    /// One of a few words, as a string; its number is its place among them.
    Word(Arc<[String]>),
    /// Yes or no, as 1 and 0.
    Flag,
    /// A 64-bit float.
    Float,
}

impl Kind {
    /// The narrower decimal that has room for such numbers.
    #[must_use]
    pub fn decimal(room: Digits) -> Kind {
        if room.fit() { Kind::Decimal(room.scale) } else { Kind::WideDecimal(room.scale) }
    }
}

/// The name and meaning of a column.
#[derive(Clone, Debug)]
pub struct Column {
    /// Its name in the file.
    pub name: String,
    /// What its numbers mean.
    pub kind: Kind,
    /// Whether a row may have no value in it.
    pub optional: bool,
}

/// The values of one column for some rows.
#[derive(Clone, Debug, Default)]
pub struct Values {
    /// The values there are.
    pub present: Vec<i64>,
    /// Those of a wide decimal instead.
    pub wide: Vec<i128>,
    /// Those of floats instead.
    pub floats: Vec<f64>,
    /// For an optional column, 1 for each row that has a value and 0 for each that has none.
    pub levels: Vec<i16>,
    /// Whether every row has a value, so that no levels are kept.
    pub required: bool,
}

impl Values {
    /// How many values the first so many rows have.
    fn values_of(&self, rows: usize) -> usize {
        match &self.levels[..] {
            [] => rows,
            levels => levels.iter().take(rows).filter(|level| **level > 0).count(),
        }
    }

    /// Drops the first so many rows. The room they took is kept for those to come.
    pub fn drop_first(&mut self, rows: usize) {
        fn drop<T>(all: &mut Vec<T>, count: usize) {
            all.drain(..count.min(all.len()));
        }
        let there = self.values_of(rows);
        drop(&mut self.present, there);
        drop(&mut self.wide, there);
        drop(&mut self.floats, there);
        drop(&mut self.levels, rows);
    }

    /// Values for every row.
    #[must_use]
    pub fn all(present: impl Iterator<Item = i64>) -> Values {
        Values { present: present.collect(), ..Values::default() }
    }

    /// Numbers at the scale of `room`, some of them absent, for a column of [`Kind::decimal`].
    #[must_use]
    pub fn decimals(room: Digits, numbers: &Numbers) -> Values {
        let mut out = Values::default();
        out.add_decimals(room, numbers);
        out
    }

    /// Puts further values behind these, a value or none for each row.
    pub fn add(&mut self, values: impl ExactSizeIterator<Item = Option<i64>>) {
        self.reserve(values.len());
        for value in values {
            self.level(value.is_some());
            self.present.extend(value);
        }
    }

    /// The same with floats.
    pub fn add_floats(&mut self, values: impl ExactSizeIterator<Item = Option<f64>>) {
        for value in values {
            self.level(value.is_some());
            self.floats.extend(value);
        }
    }

    /// The same with numbers at the scale of `room`.
    pub fn add_decimals(&mut self, room: Digits, numbers: &Numbers) {
        self.reserve(numbers.len());
        let fit = room.fit();
        // What has room in 18 digits needs no more than 64 bits for it.
        let by = |scale: u8| power(room.scale.saturating_sub(scale)).unwrap_or(1);
        if let (true, Some((mantissas, scale))) = (fit, numbers.alike()) {
            if !self.required {
                self.levels.resize(self.levels.len() + mantissas.len(), 1);
            }
            match by(scale) {
                1 => self.present.extend_from_slice(mantissas),
                by => self.present.extend(mantissas.iter().map(|n| n.wrapping_mul(by))),
            }
            return;
        }
        for number in numbers.iter() {
            self.level(number.is_some());
            let Some(number) = number else { continue };
            match fit {
                true => self.present.push(number.mantissa.wrapping_mul(by(number.scale))),
                false => self.wide.push(number.units(room.scale)),
            }
        }
    }

    fn level(&mut self, there: bool) {
        if !self.required {
            self.levels.push(i16::from(there));
        }
    }

    fn reserve(&mut self, rows: usize) {
        self.levels.reserve(if self.required { 0 } else { rows });
        self.present.reserve(rows);
    }
}

/// Fewer rows than this are packed and not compressed: the tables of a compressor for each column are larger than they are, and
/// making them takes longer than all the rest. Ten years of daily bars are fewer, a month of minutes is more.
const FEW: usize = 4096;

/// The library writes so many values at a time.
const AT_A_TIME: usize = 1024;

/// Writes a Parquet file of such columns, a row group at a time.
pub struct TableWriter<W: Write + Send> {
    file: SerializedFileWriter<W>,
    kinds: Vec<(Kind, bool)>,
}

fn schema(columns: &[Column]) -> Result<TypePtr> {
    let field = |c: &Column| {
        let (physical, logical) = match &c.kind {
            Kind::Instant => (Physical::INT64, Some(LogicalType::timestamp(true, parquet::basic::TimeUnit::MICROS))),
            Kind::Date => (Physical::INT32, Some(LogicalType::Date)),
            Kind::Decimal(scale) => (Physical::INT64, Some(LogicalType::decimal(i32::from(*scale), 18))),
            Kind::WideDecimal(scale) => (Physical::FIXED_LEN_BYTE_ARRAY, Some(LogicalType::decimal(i32::from(*scale), 38))),
            Kind::Whole | Kind::Code => (Physical::INT64, None),
            Kind::Word(_) => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
            Kind::Flag => (Physical::BOOLEAN, None),
            Kind::Float => (Physical::DOUBLE, None),
        };
        let mut builder = Type::primitive_type_builder(&c.name, physical).with_logical_type(logical).with_repetition(if c.optional {
            Repetition::OPTIONAL
        } else {
            Repetition::REQUIRED
        });
        match c.kind {
            Kind::Decimal(scale) => builder = builder.with_precision(18).with_scale(i32::from(scale)),
            Kind::WideDecimal(scale) => builder = builder.with_length(16).with_precision(38).with_scale(i32::from(scale)),
            _ => {}
        }
        Ok(Arc::new(builder.build()?))
    };
    let fields = columns.iter().map(field).collect::<Result<Vec<_>>>()?;
    Ok(Arc::new(Type::group_type_builder("bars").with_fields(fields).build()?))
}

fn properties(columns: &[Column], rows: usize, about: &[(String, String)], searched: bool) -> Result<WriterPropertiesPtr> {
    let mut builder = WriterProperties::builder();
    for column in columns {
        let path = ColumnPath::from(vec![column.name.clone()]);
        // An engine leaves out the groups of other instruments and times.
        if searched && matches!(column.kind, Kind::Word(_) | Kind::Date | Kind::Instant) {
            builder = builder.set_column_statistics_enabled(path.clone(), EnabledStatistics::Chunk);
        }
        match column.kind {
            Kind::Word(_) | Kind::Code => {
                builder = builder.set_column_dictionary_enabled(path.clone(), true).set_column_encoding(path, Encoding::PLAIN);
            }
            Kind::WideDecimal(_) | Kind::Flag | Kind::Float => builder = builder.set_column_encoding(path, Encoding::PLAIN),
            _ => {}
        }
    }
    Ok(Arc::new(
        builder
            .set_writer_version(WriterVersion::PARQUET_2_0)
            .set_compression(if rows < FEW { Compression::UNCOMPRESSED } else { Compression::ZSTD(ZstdLevel::try_new(1)?) })
            .set_dictionary_enabled(false)
            .set_encoding(Encoding::DELTA_BINARY_PACKED)
            .set_statistics_enabled(EnabledStatistics::None)
            .set_offset_index_disabled(true)
            .set_created_by("mizuno".to_owned())
            .set_key_value_metadata((!about.is_empty()).then(|| about.iter().map(|(k, v)| KeyValue::new(k.clone(), v.clone())).collect()))
            .build(),
    ))
}

/// Writes the words of some rows. Each is made once and shared by the rows that have it; where many on end have the same, they share that, too.
fn write_words(writer: &mut ColumnWriterImpl<'_, ByteArrayType>, words: &[String], present: &[i64], levels: Option<&[i16]>) -> Result<()> {
    let words: Vec<ByteArray> = words.iter().map(|w| ByteArray::from(w.as_str())).collect();
    let word = |n: &i64| words.get(*n as usize).cloned().unwrap_or_default();
    if levels.is_some() {
        writer.write_batch(&present.iter().map(word).collect::<Vec<_>>(), levels, None)?;
        return Ok(());
    }
    let (mut alike, mut of) = (vec![], None);
    for part in present.chunks(AT_A_TIME) {
        if part.iter().any(|n| *n != part[0]) {
            writer.write_batch(&part.iter().map(word).collect::<Vec<_>>(), None, None)?;
            continue;
        }
        if of.replace(part[0]) != Some(part[0]) {
            alike = vec![word(&part[0]); AT_A_TIME];
        }
        writer.write_batch(&alike[..part.len()], None, None)?;
    }
    Ok(())
}

impl<W: Write + Send> TableWriter<W> {
    /// Begins a file on `sink` that will have about so many rows.
    ///
    /// # Errors
    /// When the sink refuses.
    pub fn new(sink: W, columns: &[Column], rows: usize) -> Result<Self> {
        TableWriter::begin(sink, columns, properties(columns, rows, &[], false)?)
    }

    /// The same, for a file of any length that others read: it says of itself what it is, and what each group is about.
    ///
    /// # Errors
    /// When the sink refuses.
    pub fn for_others(sink: W, columns: &[Column], about: &[(String, String)]) -> Result<Self> {
        TableWriter::begin(sink, columns, properties(columns, usize::MAX, about, true)?)
    }

    fn begin(sink: W, columns: &[Column], properties: WriterPropertiesPtr) -> Result<Self> {
        let file = SerializedFileWriter::new(sink, schema(columns)?, properties)?;
        Ok(TableWriter { file, kinds: columns.iter().map(|c| (c.kind.clone(), c.optional)).collect() })
    }

    /// Writes one row group, with the values of each column in order.
    ///
    /// # Errors
    /// When the sink refuses, or the columns are not those of the file.
    pub fn rows(&mut self, columns: &[Values]) -> Result<()> {
        self.first_rows(columns, usize::MAX)
    }

    /// The same with the first so many rows alone.
    ///
    /// # Errors
    /// When the sink refuses, or the columns are not those of the file.
    pub fn first_rows(&mut self, columns: &[Values], rows: usize) -> Result<()> {
        fn front<T>(all: &[T], count: usize) -> &[T] {
            all.get(..count).unwrap_or(all)
        }
        let mut group = self.file.next_row_group()?;
        for (values, (kind, optional)) in columns.iter().zip(&self.kinds) {
            let Some(mut column) = group.next_column()? else { break };
            let there = values.values_of(rows);
            let (present, levels) = (front(&values.present, there), front(&values.levels, rows));
            // A required column takes no levels.
            let levels = (*optional && !levels.is_empty()).then_some(levels);
            match (kind, column.untyped()) {
                (Kind::Date, _) => {
                    let days: Vec<i32> = present.iter().map(|&d| d as i32).collect();
                    column.typed::<Int32Type>().write_batch(&days, levels, None)?;
                }
                (Kind::Word(words), ColumnWriter::ByteArrayColumnWriter(writer)) => {
                    write_words(writer, words, present, levels)?;
                }
                (_, ColumnWriter::BoolColumnWriter(writer)) => {
                    writer.write_batch(&present.iter().map(|n| *n != 0).collect::<Vec<_>>(), levels, None)?;
                }
                (_, ColumnWriter::DoubleColumnWriter(writer)) => {
                    writer.write_batch(front(&values.floats, there), levels, None)?;
                }
                (_, ColumnWriter::FixedLenByteArrayColumnWriter(writer)) => {
                    let wide: Vec<FixedLenByteArray> =
                        front(&values.wide, there).iter().map(|n| ByteArray::from(n.to_be_bytes().to_vec()).into()).collect();
                    writer.write_batch(&wide, levels, None)?;
                }
                (_, ColumnWriter::Int64ColumnWriter(writer)) => {
                    writer.write_batch(present, levels, None)?;
                }
                _ => return Err(parquet::errors::ParquetError::General("a column of an unknown type".to_owned())),
            }
            column.close()?;
        }
        group.close()?;
        Ok(())
    }

    /// The sink, to take out what has been written so far.
    pub fn sink(&mut self) -> &mut W {
        self.file.inner_mut()
    }

    /// Writes the footer and gives the sink back.
    ///
    /// # Errors
    /// When the sink refuses.
    pub fn finish(self) -> Result<W> {
        self.file.into_inner()
    }
}
