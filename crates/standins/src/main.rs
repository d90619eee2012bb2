//! The stand-ins as a program, for the demo.
#![expect(clippy::print_stdout, reason = "it prints its address")]

use std::path::PathBuf;

use clap::Parser;
use deft_standins::{Behaviour, Hub, HubOptions, artefact, make_repository};

/// Simulated sources of models, on loopback only.
#[derive(Parser)]
enum Command {
    /// Serve a folder: files of `index/`, repositories of `git/`, files of `large/` by digest.
    Serve {
        /// The folder.
        folder: PathBuf,
        /// The port.
        #[arg(long, default_value_t = 0)]
        port: u16,
        /// The behaviour as JSON; `POST /-/behaviour` changes it later.
        #[arg(long, default_value = "{}")]
        behaviour: String,
    },
    /// Make a git repository in such a folder, with its files as large files.
    Repository {
        /// The folder.
        folder: PathBuf,
        /// The repository's name.
        name: String,
        /// The files.
        files: Vec<PathBuf>,
    },
    /// Push a model file to a registry on loopback.
    Push {
        /// `host:port/repository:tag`.
        image: String,
        /// The file.
        file: PathBuf,
        /// Its description.
        #[arg(long, default_value = "")]
        description: String,
        /// Its licence.
        #[arg(long, default_value = "")]
        licence: String,
        /// Its family.
        #[arg(long, default_value = "")]
        family: String,
        /// Its quantisation.
        #[arg(long, default_value = "")]
        quantisation: String,
    },
}

#[tokio::main]
async fn main() -> anyhow::Result<()> {
    match Command::parse() {
        Command::Serve { folder, port, behaviour } => {
            let behaviour: Behaviour = serde_json::from_str(&behaviour)?;
            let hub = Hub::start(HubOptions { folder, port, encrypted: false, behaviour })?;
            println!("simulated: a web index, a git host and a hub at {}", hub.address());
            // It serves until the process is killed.
            std::future::pending::<()>().await;
            Ok(())
        }
        Command::Repository { folder, name, files } => {
            let names: Vec<String> = files
                .iter()
                .map(|file| file.file_name().unwrap_or_default().to_string_lossy().into_owned())
                .collect();
            let entries: Vec<(&str, PathBuf, bool)> = names
                .iter()
                .zip(&files)
                .map(|(name, file)| (&name[..], file.clone(), true))
                .collect();
            make_repository(&folder, &name, &entries)
        }
        Command::Push { image, file, description, licence, family, quantisation } => {
            let about = artefact::Description {
                text: &description,
                licence: &licence,
                family: &family,
                quantisation: &quantisation,
                plain: false,
            };
            artefact::push(&image, &file, &about, None).await
        }
    }
}
