//! Parquet files as rows of texts.

use parquet::{
    file::reader::{FileReader, SerializedFileReader},
    record::Field,
};

/// The rows of a file as text fields in the order of these columns; an absent value is empty.
pub fn of_parquet(columns: &[String], body: Vec<u8>) -> Vec<Vec<String>> {
    let file = SerializedFileReader::new(bytes::Bytes::from(body)).unwrap();
    let field = |field: &Field| match field {
        Field::Decimal(d) => {
            let mantissa = d.data().iter().skip(1).fold(i128::from(d.data()[0] as i8), |m, b| (m << 8) | i128::from(*b));
            mizuno_core::Decimal { mantissa: mantissa as i64, scale: d.scale() as u8 }.to_string()
        }
        Field::TimestampMicros(at) => mizuno_core::Timestamp(*at).to_string(),
        Field::Date(day) => mizuno_core::TradeDate(*day).to_string(),
        Field::Str(text) => text.clone(),
        Field::Null => String::new(),
        other => panic!("{other:?}"),
    };
    let rows = file.get_row_iter(None).unwrap().map(|r| r.unwrap());
    rows.map(|row| {
        let named: std::collections::HashMap<&String, &Field> = row.get_column_iter().collect();
        columns.iter().map(|c| field(named[c])).collect()
    })
    .collect()
}

/// The types of a file's columns by their names.
pub fn types(body: Vec<u8>) -> std::collections::BTreeMap<String, String> {
    let file = SerializedFileReader::new(bytes::Bytes::from(body)).unwrap();
    let schema = file.metadata().file_metadata().schema_descr_ptr();
    let one = |c: &parquet::schema::types::ColumnDescPtr| (c.name().to_owned(), format!("{:?}", c.logical_type_ref().unwrap()));
    schema.columns().iter().map(one).collect()
}
