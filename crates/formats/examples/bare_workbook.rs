//! Bare loops of the libraries that read and write workbooks, to compare the program with.
//!
//! `make ROWS FILE` makes a workbook of 16 columns whose cells share their texts, and a CSV file with the same
//! cells next to it. `read FILE` looks at every cell of a workbook. `write CSV FILE` writes the cells of a CSV file
//! as a workbook: numbers as numbers, all else as text.

// Its count is its result.
#![allow(clippy::print_stdout)]

use std::error::Error;
use std::path::Path;

use calamine::{DataRef, Reader, Xlsx};
use gather_keys_core::value::date::{Epoch, day_of_serial};
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Format, Workbook};

const COLUMNS: u16 = 16;

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    match arguments.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["make", rows, file] => make(rows.parse()?, file),
        ["read", file] => read(file),
        ["write", csv, file] => write(csv, file),
        _ => Err("expected: make ROWS FILE, read FILE or write CSV FILE".into()),
    }
}

fn make(rows: u32, file: &str) -> Result<(), Box<dyn Error>> {
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet_with_low_memory()?;
    let mut csv = csv::Writer::from_path(Path::new(file).with_extension("csv"))?;
    let day = Format::new().set_num_format("yyyy-mm-dd");
    let headers: Vec<String> = (0..COLUMNS).map(|column| format!("Column {column}")).collect();
    csv.write_record(&headers)?;
    for (column, header) in (0..).zip(&headers) {
        sheet.write_string(0, column, header)?;
    }
    let mut state = 1_u32;
    let mut next = || {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        state >> 8
    };
    for row in 1..=rows {
        let mut record = Vec::new();
        for column in 0..COLUMNS {
            match column {
                0 => {
                    sheet.write_number(row, column, f64::from(row))?;
                    record.push(row.to_string());
                }
                1..=5 => {
                    let text = format!("Apiary {}", next() % 4000);
                    sheet.write_string(row, column, &text)?;
                    record.push(text);
                }
                6..=9 => {
                    let number = f64::from(next() % 100_000);
                    sheet.write_number(row, column, number)?;
                    record.push(number.to_string());
                }
                10..=13 => {
                    let number = f64::from(next() % 1_000_000) / 100.0;
                    sheet.write_number(row, column, number)?;
                    record.push(number.to_string());
                }
                _ => {
                    let serial = 45_000 + next() % 900;
                    sheet.write_number_with_format(row, column, f64::from(serial), &day)?;
                    let date = day_of_serial(i64::from(serial), Epoch::Of1900);
                    record.push(date.map(|date| date.to_string()).unwrap_or_default());
                }
            }
        }
        csv.write_record(&record)?;
    }
    csv.flush()?;
    let made = ExcelDateTime::from_ymd(2000, 1, 1)?;
    workbook.set_properties(&DocProperties::new().set_creation_datetime(&made));
    Ok(workbook.save(file)?)
}

fn read(file: &str) -> Result<(), Box<dyn Error>> {
    let mut workbook: Xlsx<_> = calamine::open_workbook(file)?;
    let name = workbook.sheet_names().swap_remove(0);
    let mut cells = workbook.worksheet_cells_reader(&name)?;
    let (mut count, mut texts) = (0_u64, 0);
    while let Some(cell) = cells.next_cell()? {
        count += 1;
        if let DataRef::SharedString(text) = cell.get_value() {
            texts += text.len();
        }
    }
    println!("{count} cells, {texts} bytes of text");
    Ok(())
}

fn write(csv: &str, file: &str) -> Result<(), Box<dyn Error>> {
    let mut workbook = Workbook::new();
    let sheet = workbook.add_worksheet_with_constant_memory()?;
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_path(csv)?;
    let mut record = csv::StringRecord::new();
    let mut row = 0;
    while reader.read_record(&mut record)? {
        for (column, cell) in (0..).zip(&record) {
            match cell.parse::<f64>() {
                Ok(number) => sheet.write_number(row, column, number)?,
                Err(_) => sheet.write_string(row, column, cell)?,
            };
        }
        row += 1;
    }
    Ok(workbook.save(file)?)
}
