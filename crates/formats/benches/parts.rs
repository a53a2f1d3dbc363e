//! How long the parts of a run take, each by itself: finding rows and cells, taking a reference in
//! and indexing its keys, answering rows, and writing them.
//!
//!     cargo bench -p gather-keys-formats
//!
//! Tables are made up here, always the same: harvest batches, and a registry in which nine of ten
//! find their hive.

// A benchmark that can't go on should say so at once.
#![allow(clippy::unwrap_used)]

use std::fmt::Write;
use std::hint::black_box;
use std::io;

use criterion::{BatchSize, Criterion, Throughput, criterion_group, criterion_main};
use gather_keys_core::enrich::{Enrichment, EnrichmentBuilder};
use gather_keys_core::lookup::{Reference, ReferenceBuilder};
use gather_keys_core::plan::{On, ReferencePlan, Take};
use gather_keys_core::table::{
    Block, Discard, Headers, OutputColumns, Overlay, Parser, Renderer, Sink, Source,
};
use gather_keys_formats::delimited::{ReadOptions, Reader, Writer};

const HIVES: u64 = 50_000;
const BATCHES: u64 = 100_000;

/// Numbers that look random, and are the same in every run.
fn scattered(nth: u64) -> u64 {
    nth.wrapping_mul(0x9e37_79b9_7f4a_7c15).rotate_left(31).wrapping_mul(0xbf58_476d_1ce4_e5b9)
        >> 33
}

fn harvest() -> String {
    let mut text = "Batch,Picked on,Apiary,Hive,Honey kg,Note\n".to_owned();
    for batch in 0..BATCHES {
        let hive = scattered(batch) % (HIVES * 10 / 9);
        let note = if batch % 100 == 0 { "\"two buckets,\none open\"" } else { "" };
        let (day, apiary) = (batch % 28 + 1, hive % 40);
        writeln!(text, "B{batch:06},2026-05-{day:02},Apiary {apiary},H-{hive:05},12.4,{note}")
            .unwrap();
    }
    text
}

fn hives() -> String {
    let mut text = "Line,Keeper,Site code,Tag,Since\n".to_owned();
    for hive in 0..HIVES {
        let (apiary, keeper) = (hive % 40, hive % 17);
        writeln!(text, "Amberline,Keeper {keeper},Apiary {apiary},H-{hive:05},2023-04-01").unwrap();
    }
    text
}

fn reader<'t>(name: &str, text: &'t str) -> Reader<&'t [u8]> {
    Reader::new(name, text.as_bytes(), ReadOptions::default()).unwrap()
}

fn plan() -> ReferencePlan {
    ReferencePlan {
        name: "hives".to_owned(),
        on: On::parse(&["Apiary = Site code, Hive = Tag"]).unwrap(),
        take: Some(Take::parse("Keeper, Line").unwrap()),
        ..ReferencePlan::default()
    }
}

fn builder(
    main: &Headers,
    reference: &Headers,
) -> (ReferenceBuilder, impl FnOnce(Reference) -> Enrichment + use<>) {
    let mut enrichment = EnrichmentBuilder::new(main, [1, 2, 3, 4]);
    let found = enrichment.resolve(&plan(), reference, &[]).unwrap();
    let builder = found.builder(&plan(), reference, enrichment.seed());
    let finish = move |loaded| {
        let (lookup, output) = found.lookup(loaded);
        enrichment.add(lookup, output);
        enrichment.finish()
    };
    (builder, finish)
}

fn enrichment(harvest: &str, hives: &str) -> Enrichment {
    let (main, mut reference) = (reader("harvest.csv", harvest), reader("hives.csv", hives));
    let (builder, finish) = builder(main.headers(), reference.headers());
    finish(Reference::load(builder, &mut reference).unwrap())
}

fn parts(criterion: &mut Criterion) {
    let (harvest, hives) = (harvest(), hives());
    let mut group = criterion.benchmark_group("parts");
    group.sample_size(20);

    group.throughput(Throughput::Bytes(harvest.len() as u64));
    let mut parser = reader("harvest.csv", &harvest).parser();
    parser.want(&[2, 3]);
    let piece = harvest.split_once('\n').unwrap().1.as_bytes().to_vec();
    group.bench_function("scan: rows and cells of a text", |bencher| {
        let mut block = Block::default();
        let parse = |mut piece| parser.parse(&mut piece, &mut block).unwrap();
        bencher.iter_batched(|| piece.clone(), parse, BatchSize::LargeInput);
    });

    group.throughput(Throughput::Elements(HIVES));
    group.bench_function("reference: taken in and indexed", |bencher| {
        let main = reader("harvest.csv", &harvest).headers().clone();
        let load = |mut reference: Reader<&[u8]>| {
            let (builder, _) = builder(&main, reference.headers());
            Reference::load(builder, &mut reference).unwrap()
        };
        bencher.iter_batched(|| reader("hives.csv", &hives), load, BatchSize::LargeInput);
    });

    let mut enrichment = enrichment(&harvest, &hives);
    group.throughput(Throughput::Elements(BATCHES));
    group.bench_function("pass: keys, probes and findings, on one thread", |bencher| {
        let mut run =
            |mut main| enrichment.run(&mut main, &mut Discard::default(), None, 1).unwrap();
        bencher.iter_batched(|| reader("harvest.csv", &harvest), &mut run, BatchSize::LargeInput);
    });
    let mut render = |name: &str, order: Option<[usize; 8]>| {
        group.bench_function(name, |bencher| {
            let mut main = reader("harvest.csv", &harvest);
            let names = ["Keeper".to_owned(), "Line".to_owned()];
            let mut columns = OutputColumns::all(main.headers(), &names, Overlay::default());
            if let Some(order) = order {
                columns = columns.chosen(&order.map(|column| (column, format!("C{column}"))));
            }
            let renderer = Writer::new("out", io::sink(), main.layout().clone()).renderer(&columns);
            let mut block = Block::default();
            main.read_block(&mut block).unwrap();
            let added = Block::of_rows(2, &vec![["Keeper 12", "Amberline"]; block.rows()]);
            let rows: Vec<usize> = (0..block.rows()).collect();
            let mut bytes = Vec::new();
            bencher.iter(|| {
                renderer.render(&block, &rows, &added, &mut bytes);
                black_box(bytes.len())
            });
        });
    };
    render("render: rows with two cells added", None);
    render("render: the same in reverse", Some([7, 6, 5, 4, 3, 2, 1, 0]));
    group.finish();
}

criterion_group!(benches, parts);
criterion_main!(benches);
