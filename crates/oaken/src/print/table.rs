//! Plain tables that fit the terminal.

use super::{Out, plain_line, strong, width};
use comfy_table::{ContentArrangement, Table, presets};
use std::io;

/// Writes rows under headings, columns two blanks apart.
pub fn print(out: &mut Out, headings: &[&str], rows: &[Vec<String>]) -> io::Result<()> {
    let mut table = Table::new();
    table.load_style(presets::NOTHING).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_width(u16::try_from(width()).unwrap_or(100));
    table.set_header(headings.iter().map(|heading| (*heading).to_owned()));
    for row in rows {
        table.add_row(row.iter().map(|cell| plain_line(cell)));
    }
    for column in table.column_iter_mut() {
        column.set_padding((0, 2));
    }
    let text = table.to_string();
    for (at, line) in text.lines().enumerate() {
        let line = line.trim_end();
        if at == 0 {
            let strong = strong();
            out.line(&format!("{strong}{line}{strong:#}"))?;
        } else {
            out.line(line)?;
        }
    }
    Ok(())
}
