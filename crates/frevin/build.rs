//! What the program carries beside its code: the schemas of what it prints, packed; and what Windows reads of its file, its
//! version, and that it takes long paths and UTF-8, and asks for no rights.

use std::io::{self, Write as _};
use std::path::{Path, PathBuf};

use flate2::Compression;
use flate2::write::ZlibEncoder;

/// The manifest ("Application manifests" in the Windows documentation).
const MANIFEST: &str = r#"<?xml version="1.0" encoding="UTF-8" standalone="yes"?>
<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0">
  <trustInfo xmlns="urn:schemas-microsoft-com:asm.v3">
    <security>
      <requestedPrivileges>
        <requestedExecutionLevel level="asInvoker" uiAccess="false"/>
      </requestedPrivileges>
    </security>
  </trustInfo>
  <compatibility xmlns="urn:schemas-microsoft-com:compatibility.v1">
    <application>
      <supportedOS Id="{8e0f7a12-bfb3-4fe8-b9a5-48fd50a15a9a}"/>
    </application>
  </compatibility>
  <application xmlns="urn:schemas-microsoft-com:asm.v3">
    <windowsSettings>
      <longPathAware xmlns="http://schemas.microsoft.com/SMI/2016/WindowsSettings">true</longPathAware>
      <activeCodePage xmlns="http://schemas.microsoft.com/SMI/2019/WindowsSettings">UTF-8</activeCodePage>
    </windowsSettings>
  </application>
</assembly>
"#;

fn main() -> io::Result<()> {
    println!("cargo::rerun-if-changed=build.rs");
    pack_schemas()?;
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() != Ok("windows") {
        return Ok(());
    }
    let mut resource = winresource::WindowsResource::new();
    resource
        .set_manifest(MANIFEST)
        .set("ProductName", "Frevin")
        .set(
            "FileDescription",
            "Tweaks a gaming PC, measures what came of it, takes back what made it worse",
        )
        .set("OriginalFilename", "frevin.exe")
        .set("LegalCopyright", "MIT or Apache 2.0");
    resource.compile()
}

/// Puts the name and the text of each schema into one packed file, a NUL behind each: a tenth of their size.
fn pack_schemas() -> io::Result<()> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/output");
    println!("cargo::rerun-if-changed={}", folder.display());
    let in_folder = |error| io::Error::other(format!("{}: {error}", folder.display()));
    let entries = std::fs::read_dir(&folder).map_err(in_folder)?.map(|entry| Ok(entry?.path()));
    let mut files: Vec<PathBuf> = entries.collect::<io::Result<_>>()?;
    files.sort();
    let out = std::env::var_os("OUT_DIR").ok_or_else(|| io::Error::other("there is no OUT_DIR"))?;
    let packed = std::fs::File::create(Path::new(&out).join("schemas.zlib"))?;
    let mut packed = ZlibEncoder::new(packed, Compression::best());
    for file in files {
        let name = file.file_name().unwrap_or_default().to_string_lossy();
        write!(packed, "{name}\0{}\0", std::fs::read_to_string(&file)?)?;
    }
    packed.finish()?;
    Ok(())
}
