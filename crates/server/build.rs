//! The page is built apart; without it the program still compiles, and says so when it is opened.

fn main() -> std::io::Result<()> {
    println!("cargo:rerun-if-changed=../../web/dist");
    std::fs::create_dir_all("../../web/dist")
}
