//! How long a check takes, from the bytes of the files to the findings.

use bench::{Shape, Size, perverse, project, sources};
use clap::ValueEnum;

fn main() {
    divan::main();
}

fn check(files: &[bench::File]) -> usize {
    let project = census::project::build(sources(files));
    census::report::check(&project).findings.len()
}

fn lines(bencher: divan::Bencher<'_, '_>, shape: Shape, lines: usize) {
    let files = project(Size { shape, variables: lines / 50, lines, mistakes: 0.02, seed: 1 });
    bencher.bench(|| check(&files));
}

#[divan::bench(args = [10_000, 100_000, 1_000_000], sample_count = 3, sample_size = 1)]
fn worlds(bencher: divan::Bencher<'_, '_>, count: usize) {
    lines(bencher, Shape::Worlds, count);
}

#[divan::bench(args = [10_000, 100_000, 1_000_000], sample_count = 3, sample_size = 1)]
fn mixed(bencher: divan::Bencher<'_, '_>, count: usize) {
    lines(bencher, Shape::Mixed, count);
}

#[divan::bench(args = Shape::value_variants(), sample_count = 3, sample_size = 1)]
fn hundred_thousand_lines(bencher: divan::Bencher<'_, '_>, shape: &Shape) {
    lines(bencher, *shape, 100_000);
}

#[divan::bench(args = 0..perverse::KINDS.len(), sample_count = 3, sample_size = 1)]
fn ten_thousand_perverse_lines(bencher: divan::Bencher<'_, '_>, kind: usize) {
    let files = (perverse::KINDS[kind].1)();
    bencher.bench(|| check(&files));
}
