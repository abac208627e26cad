//! How long a check takes, from the bytes of the files to the findings.

use bench::{Size, perverse, project, sources};

fn main() {
    divan::main();
}

fn check(files: &[bench::File]) -> usize {
    let project = census::project::build(sources(files));
    census::report::check(&project).findings.len()
}

#[divan::bench(args = [10_000, 100_000, 1_000_000], sample_count = 3, sample_size = 1)]
fn lines(bencher: divan::Bencher<'_, '_>, lines: usize) {
    let files = project(Size { variables: lines / 50, lines, mistakes: 0.02, seed: 1 });
    bencher.bench(|| check(&files));
}

#[divan::bench(args = 0..perverse::KINDS.len(), sample_count = 3, sample_size = 1)]
fn ten_thousand_perverse_lines(bencher: divan::Bencher<'_, '_>, kind: usize) {
    let files = (perverse::KINDS[kind].1)();
    bencher.bench(|| check(&files));
}
