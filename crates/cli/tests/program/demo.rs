//! `demo`, as it runs from the program alone.

use super::scene::{Scene, snapshot};

#[test]
fn the_demo_runs() {
    let scene = Scene::empty();
    let ran = scene.run("demo here").ended(0);
    assert_eq!(ran.out, "");
    snapshot("demo", &ran.err);
    assert_eq!(scene.read("here/enriched.csv").matches("\nB0").count(), 240);
    assert!(scene.run("demo here").ended(2).err.contains("here is in use"));
}

#[test]
fn the_demo_finds_a_free_folder() {
    let scene = Scene::empty();
    for folder in ["honey-demo", "honey-demo-2", "honey-demo-3"] {
        let ran = scene.run("demo").ended(0);
        assert!(ran.err.contains(&format!("are in {folder}:\n")));
        assert!(scene.path(folder).join("enriched.csv").exists());
    }
}
