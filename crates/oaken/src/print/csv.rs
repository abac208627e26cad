//! CSV for spreadsheets: a cell that one of them would take for a formula is made harmless.

/// Builds a document, row by row.
pub struct Csv {
    writer: csv::Writer<Vec<u8>>,
}

impl Csv {
    /// A document with its first row.
    ///
    /// # Errors
    /// None in practice: it is written to memory.
    pub fn new(head: &[&str]) -> Result<Self, csv::Error> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        writer.write_record(head)?;
        Ok(Self { writer })
    }

    /// Adds a row.
    ///
    /// # Errors
    /// None in practice: it is written to memory.
    pub fn row<T: AsRef<str>>(&mut self, cells: impl IntoIterator<Item = T>) -> Result<(), csv::Error> {
        let cells: Vec<String> = cells.into_iter().map(|cell| harmless(cell.as_ref())).collect();
        self.writer.write_record(&cells)
    }

    /// The whole text.
    ///
    /// # Errors
    /// None in practice: it is written to memory.
    pub fn finish(self) -> std::io::Result<String> {
        let bytes = self.writer.into_inner().map_err(|error| std::io::Error::other(error.to_string()))?;
        Ok(String::from_utf8_lossy(&bytes).into_owned())
    }
}

/// A cell that starts like a formula, or like one made harmless, gets a `'` in front; plain numbers stay.
#[must_use]
pub fn harmless(cell: &str) -> String {
    let formula = cell.starts_with(['=', '+', '-', '@', '\t', '\r', '\'']) && cell.parse::<f64>().is_err();
    if formula { format!("'{cell}") } else { cell.to_owned() }
}

/// The cell as it was before [`harmless`].
#[must_use]
pub fn as_it_was(cell: &str) -> &str {
    cell.strip_prefix('\'').unwrap_or(cell)
}
