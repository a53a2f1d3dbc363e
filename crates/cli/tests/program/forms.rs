//! The forms that tables come in: encodings, packing, titles, ragged rows.

use std::fs;
use std::io::{Read, Write};

use gather_keys_formats::delimited::{Encoded, Encoding};
use gather_keys_formats::{Codec, Packed, unpacked};

use super::scene::{Scene, snapshot};

const ORDERS: &str = "Order;Größe;Käufer\n1;groß;Jürgen Möller\n2;mäßig;Zoë Krüger aus Köln\n";
const SIZES: &str = "Größe,Glas\ngroß,1 kg\nmäßig,½ kg\n";

fn encoded(text: &str, encoding: &str) -> Vec<u8> {
    let mut encoded = Encoded::new(Vec::new(), Encoding::named(encoding).unwrap());
    encoded.write_all(text.as_bytes()).unwrap();
    encoded.into_inner()
}

fn packed(bytes: &[u8], packing: Codec) -> Vec<u8> {
    let mut packed = Packed::new(Vec::new(), Some(packing)).unwrap();
    packed.write_all(bytes).unwrap();
    packed.finish().unwrap()
}

const CALL: &str = "enrich orders.csv --from sizes.csv --on Größe --take Glas -o out.csv";

#[test]
fn encodings_are_found_and_kept() {
    let want = "Order;Größe;Käufer;Glas\n1;groß;Jürgen Möller;1 kg\n\
                2;mäßig;Zoë Krüger aus Köln;½ kg\n";
    for main in ["utf-8", "windows-1252", "utf-16le", "utf-16be"] {
        for reference in ["utf-8", "windows-1252", "utf-16le"] {
            let scene = Scene::empty()
                .with("orders.csv", encoded(ORDERS, main))
                .with("sizes.csv", encoded(SIZES, reference));
            let ran = scene.run(CALL).ended(0);
            let out = fs::read(scene.path("out.csv")).unwrap();
            assert_eq!(out, encoded(want, main), "{main} {reference}");
            let guess = format!("orders.csv: read as {}", Encoding::named(main).unwrap());
            assert_eq!(ran.err.contains(&guess), main != "utf-8", "{}", ran.err);
            let call = format!("{CALL} --overwrite --output-encoding utf-8 -q");
            scene.run(&call).ended(0);
            assert_eq!(scene.read("out.csv"), want);
        }
    }
    // A character that the encoding does not have is an error, not a question mark.
    let scene = Scene::empty()
        .with("orders.csv", encoded(ORDERS, "windows-1252"))
        .with("sizes.csv", SIZES.replace("½ kg", "→ 500 g"));
    let ran = scene.run(CALL).ended(2);
    assert!(!scene.path("out.csv").exists());
    let words = "error: out.csv can't be written: windows-1252 has no character `→`; use another\n       encoding, such as utf-8 (--output-encoding)\n";
    assert!(ran.err.ends_with(words), "{}", ran.err);
    // What is named is taken; what it can't be is reported with its place.
    let call = format!("{CALL} --encoding shift_jis");
    let orders = Scene::empty().with("orders.csv", b"Order\xff\xff;X\n").with("sizes.csv", SIZES);
    let ran = orders.run("check orders.csv --encoding shift_jis --from sizes.csv --on X").ended(2);
    let words = "byte 6 is not shift_jis; state the encoding of\n       the table (--encoding)\n";
    assert!(ran.err.ends_with(words), "{}", ran.err);
    let ran = scene.run(&call.replace("shift_jis", "smoke")).ended(2);
    assert!(ran.err.contains("`smoke` is not a known encoding"), "{}", ran.err);
}

#[test]
fn packed_files_are_read_and_written() {
    for packing in [Codec::Gzip, Codec::Zstd] {
        // By its content, whatever it is called.
        let scene = Scene::empty()
            .with("orders.csv", packed(ORDERS.as_bytes(), packing))
            .with("sizes.csv", packed(&encoded(SIZES, "windows-1252"), packing));
        let ending = if packing == Codec::Gzip { "gz" } else { "zst" };
        let call = CALL.replace("out.csv", &format!("out.csv.{ending}"));
        let ran = scene.run(&format!("{call} --receipt run.json -v")).ended(0);
        assert!(ran.err.contains(&format!("packed with {}", packing.name())), "{}", ran.err);
        let file = fs::File::open(scene.path(&format!("out.csv.{ending}"))).unwrap();
        let (mut file, found) = unpacked(Box::new(file)).unwrap();
        assert_eq!(found, Some(packing));
        let mut text = String::new();
        file.read_to_string(&mut text).unwrap();
        assert!(text.ends_with("2;mäßig;Zoë Krüger aus Köln;½ kg\n"), "{text}");
        let ran = scene.run(&format!("{call} --receipt run.json")).ended(0);
        assert!(ran.err.contains("Nothing has changed"), "{}", ran.err);
    }
    let cut = packed(ORDERS.repeat(100).as_bytes(), Codec::Gzip);
    let scene = Scene::empty().with("orders.csv", &cut[..cut.len() / 2]).with("sizes.csv", SIZES);
    let ran = scene.run(CALL).ended(2);
    assert!(ran.err.contains("it ends too early; get it again"), "{}", ran.err);
    // A reference is called by its name without the endings.
    let scene = Scene::empty()
        .with("orders.csv", ORDERS)
        .with("sizes.csv.gz", packed(SIZES.as_bytes(), Codec::Gzip));
    let ran = scene.run(&CALL.replace("sizes.csv", "sizes.csv.gz")).ended(0);
    assert!(ran.err.contains("\nsizes (2 rows): "), "{}", ran.err);
}

/// A gzip of zeros is one endless row, and ends within the memory of one.
#[test]
fn a_packed_file_that_never_ends_is_refused() {
    let mut zeros = Packed::new(Vec::new(), Some(Codec::Gzip)).unwrap();
    zeros.write_all(b"Order;X\n").unwrap();
    let piece = vec![0; 1 << 20];
    (0..300).for_each(|_| zeros.write_all(&piece).unwrap());
    let scene = Scene::empty().with("orders.csv", zeros.finish().unwrap()).with("sizes.csv", SIZES);
    let ran = scene.run("check orders.csv --from sizes.csv --on X=Glas").ended(2);
    assert!(ran.err.contains("it has no line ends, so get the file again"), "{}", ran.err);
}

#[test]
fn titles_are_passed_over_and_ragged_rows_padded() {
    let scene = Scene::empty()
        .with("orders.csv", format!("Orders of June\n\nall shops\n{ORDERS}3;groß\n\n\n"))
        .with("sizes.csv", "1 kg;groß\n½ kg;mäßig\n");
    let call = "enrich orders.csv --ragged pad --from sizes.csv --no-header \
                --on 'Größe = Column 2' --take 'Column 1 as Glas'";
    // With a short row, the headers are found by the names that the call uses.
    let found = scene.run(call).ended(0);
    let reported = format!("{}{}", found.err, found.out);
    let ran = scene.run(&call.replace("--ragged", "--header-row 4 --ragged")).ended(0);
    let scene = scene.with("orders.csv", format!("Orders of June\n\nall shops\n{ORDERS}\n\n"));
    let again = scene.run(call).ended(0);
    let call =
        "enrich sizes.csv --no-header --from orders.csv --on 'Column 2 = Größe' --take Order";
    let bare = scene.run(&format!("{call} -q")).ended(0);
    snapshot(
        "forms",
        &format!("{reported}\n{}{}\n{}{}\n{}", ran.err, ran.out, again.err, again.out, bare.out),
    );
}

/// A named pipe is opened once: what is written to it comes through.
#[test]
fn a_named_pipe_is_a_table() {
    let scene = Scene::empty().with("sizes.csv", SIZES).with("orders.txt", ORDERS);
    let line = "mkfifo orders.csv && (cat orders.txt > orders.csv &) && \
                touch out.csv && gather-keys enrich orders.csv --from sizes.csv --on Größe \
                --take Glas -q -o out.csv --overwrite";
    let ran = scene.shell(line).ended(0);
    let out = scene.read("out.csv");
    assert!(out.ends_with("2;mäßig;Zoë Krüger aus Köln;½ kg\n"), "{out} {}", ran.err);
}

/// The form of the output may be another than that of the main table, and numbers may have a decimal comma on either
/// side.
#[test]
fn an_output_has_the_form_that_is_asked_for() {
    let scene = Scene::empty()
        .with("harvest.csv", "Batch;Kg;Note\n1;12,5;\"a;b\"\n2;1.204,50;007\n3;4;x\n")
        .with("prices.csv", "Kg,Price,Code\n12.5,3.40,1.5\n1204.50,7,\"a,b\"\n4,0.25,-2\n");
    let call =
        "enrich harvest.csv --decimal-comma --from prices.csv --on Kg --take 'Price, Code' -q";
    let back =
        "enrich prices.csv --from harvest.csv --decimal-comma --on 'Kg' --take 'Batch, Note' -q";
    let mut reported = String::new();
    for (call, output) in [
        (call, ""),
        (call, "--output-delimiter comma"),
        (call, "--output-delimiter tab --output-bom"),
        (back, ""),
        (back, "--output-delimiter semicolon --output-decimal-comma"),
    ] {
        let ran = scene.run(&format!("{call} {output}")).ended(0);
        reported += &format!("$ {output}\n{}\n", ran.out.replace('\u{feff}', "[BOM]"));
    }
    // A workbook gets numbers.
    scene.run(&format!("{call} -o out.xlsx --plain")).ended(0);
    let typed = scene.run("survey out.xlsx").ended(0).out;
    assert!(typed.contains("Kg      number"), "{typed}");
    // What was written is read again alike.
    let out = format!("{call} -o out.csv --receipt r.json");
    scene.run(&out).ended(0);
    let again = scene.run(&out.replace(" -q", "")).ended(0);
    assert!(again.err.contains("Nothing has changed"), "{}", again.err);
    let refused = scene.run("check out.xlsx --decimal-comma --from prices.csv --on Kg").ended(2);
    snapshot("output-forms", &format!("{reported}{}", refused.err));
}
