//! Where models come from: a web index, a real registry, real git, a listing, a folder; tokens; judging an
//! offer before it is fetched.

use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use deft_depot::headers::InThisProcess;
use deft_protocol::manage::{Fitting, Preview, SearchReport};
use deft_standins::{
    Behaviour, Door, Hub, HubOptions, READER, Registry, artefact, make_repository,
};
use tempfile::TempDir;

use crate::world::{ANSWER, QUESTION, World, desk, mini, project, wait};

/// A stand-in with the demo models: `index/` with an index, `index/seeds` in the form of a hub.
pub(crate) struct Shelf {
    pub(crate) folder: TempDir,
    pub(crate) hub: Hub,
}

impl Shelf {
    pub(crate) fn new() -> Self {
        Self::with(HubOptions::default())
    }

    pub(crate) fn with(options: HubOptions) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let index = folder.path().join("index");
        std::fs::create_dir_all(index.join("seeds")).unwrap();
        for file in [desk(), project("demo/larkfen-find/larkfen-find-q8_0.gguf")] {
            std::fs::copy(&file, index.join(file.file_name().unwrap())).unwrap();
        }
        let checkpoint = ["model.safetensors", "config.json", "tokenizer.json"];
        for name in checkpoint {
            let source = project("demo/larkfen-desk-mini").join(name);
            std::fs::copy(source, index.join("seeds").join(name)).unwrap();
        }
        std::fs::copy(mini(), index.join("seeds/larkfen-desk-mini-q8_0.gguf")).unwrap();
        let hub = Hub::start(HubOptions { folder: folder.path().to_owned(), ..options }).unwrap();
        let shelf = Self { folder, hub };
        shelf.describe();
        shelf
    }

    /// Writes the index again.
    pub(crate) fn describe(&self) {
        let mut quiet = |_| std::ops::ControlFlow::Continue(());
        let name = "Larkfen Seed Library";
        deft_depot::write_index(&self.file("index"), name, &InThisProcess, &mut quiet).unwrap();
    }

    pub(crate) fn file(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn url(&self, path: &str) -> String {
        format!("{}/{path}", self.hub.address())
    }

    /// A service that knows the index as `larkfen`.
    pub(crate) fn world(&self) -> World {
        self.known_to(World::new().start())
    }

    pub(crate) fn known_to(&self, world: World) -> World {
        world.ok(&["source", "add", "larkfen", &self.url("index")]);
        world
    }
}

fn asked(world: &World, model: &str) {
    assert_eq!(world.ok(&["ask", model, QUESTION, "--temperature", "0"]).trim(), ANSWER);
}

fn search(world: &World, words: &[&str]) -> SearchReport {
    let command = [&["depot", "search", "--json"], words].concat();
    serde_json::from_str(&world.ok(&command)).unwrap()
}

fn preview(world: &World, reference: &str) -> Preview {
    serde_json::from_str(&world.ok(&["depot", "preview", reference, "--json"])).unwrap()
}

#[test]
fn a_model_of_a_web_index_is_found_judged_fetched_and_answers() {
    let shelf = Shelf::new();
    let world = shelf.world();
    assert!(world.ok(&["source", "check"]).contains("offers 4 variants"));
    let found = search(&world, &["desk", "q8_0", "chat"]);
    let names: Vec<&str> = found.offers.iter().map(|offer| &offer.reference[..]).collect();
    assert_eq!(names, ["larkfen:larkfen-desk-mini/q8_0", "larkfen:larkfen-desk/q8_0"]);
    let offer = &found.offers[1];
    assert_eq!(offer.bytes, Some(desk().metadata().unwrap().len()));
    assert_eq!(offer.fit.as_ref().unwrap().fits, Fitting::Now);
    assert_eq!(offer.licence.as_deref(), Some("CC0-1.0"));
    let none = world.deft(&["depot", "search", "moonhook"]);
    assert!(none.err.contains("no offer contains these words"), "{none:?}");
    let judged = preview(&world, "larkfen:larkfen-desk/q8_0");
    let facts = judged.facts.unwrap();
    assert_eq!(
        (&facts.family[..], facts.context_length, facts.has_template),
        ("llama", 1024, true)
    );
    assert!(judged.plans.len() == 2 && judged.speed.unwrap().tokens_per_second > 0.0);
    assert_eq!(judged.disk.after, Some(judged.disk.free - judged.disk.pull));
    let text = world.ok(&["depot", "preview", "larkfen:larkfen-desk/q8_0"]);
    assert!(text.contains("estimated speed") && text.contains("in the file"), "{text}");
    let said = world.ok(&["depot", "pull", "larkfen:larkfen-desk/q8_0"]);
    assert_eq!(said.trim(), "stored as `larkfen-desk/q8_0`");
    asked(&world, "larkfen-desk");
    let path = world.ok(&["depot", "path", "larkfen-desk"]);
    assert_eq!(std::fs::read(path.trim()).unwrap(), std::fs::read(desk()).unwrap());
    shelf.hub.behave(Behaviour::default());
    let again = world.ok(&["depot", "pull", "larkfen:larkfen-desk/q8_0"]);
    assert!(again.contains("is already in the depot and up to date"), "{again}");
    assert_eq!(shelf.hub.questions(), 1, "the index only");
    let known = search(&world, &["larkfen-desk/q8_0"]);
    assert_eq!(known.offers[0].known_as.as_deref(), Some("larkfen-desk/q8_0"));
}

#[test]
fn whether_an_offer_fits_is_reported_before_it_is_fetched() {
    let shelf = Shelf::new();
    let world = shelf.known_to(World::configured("[pools.host]\nlimit = \"8 MiB\"\n").start());
    world.ok(&["depot", "register", &mini().to_string_lossy()]);
    world.ok(&["load", "larkfen-desk-mini"]);
    let fit = |model: &str| {
        let found = search(&world, &[model, "q8_0"]);
        found.offers[0].fit.clone().unwrap().fits
    };
    assert_eq!(fit("larkfen-desk/"), Fitting::AfterUnloading);
    assert_eq!(fit("larkfen-find"), Fitting::Now);
    let text = world.ok(&["depot", "search", "larkfen-desk/"]);
    assert!(text.contains("after unloading"), "{text}");
    world.ok(&["unload", "--all"]);
    assert_eq!(fit("larkfen-desk/"), Fitting::Now);
    world.ok(&["limit", "host", "1MiB"]);
    let judged = preview(&world, "larkfen:larkfen-desk/q8_0");
    assert!(judged.plans.iter().all(|plan| plan.fit.fits != Fitting::Now));
}

#[test]
fn a_registry_gives_artefacts_of_the_open_layout_and_others_to_whom_it_knows() {
    let folder = tempfile::tempdir().unwrap();
    let shelf = Shelf::new();
    // Credentials go to the registry's own host only.
    let realm = shelf.url("token").replace("localhost", "127.0.0.1");
    let doors = [Door::Open, Door::Password, Door::Token(&realm, shelf.hub.issuer())];
    let world = World::new().start();
    for (number, door) in doors.iter().enumerate() {
        let registry = Registry::start(&folder.path().join(number.to_string()), door).unwrap();
        let login = (number > 0).then_some(READER);
        let text = "Answers questions at the desk of the seed library.";
        let layout = artefact::Description {
            text,
            licence: "CC0-1.0",
            family: "llama",
            quantisation: "Q8_0",
            plain: false,
        };
        let plain = artefact::Description { plain: true, ..layout.clone() };
        let place = |name: &str| format!("{}/seeds/{name}", registry.host());
        wait(artefact::push(&place("desk:q8_0"), &desk(), &layout, login)).unwrap();
        wait(artefact::push(&place("mini:latest"), &mini(), &plain, login)).unwrap();
        let (name, address) = (format!("reg{number}"), format!("http://{}", registry.host()));
        let reference = format!("{name}:seeds/desk/q8_0");
        world.ok(&["source", "add", &name, &address, "--kind", "registry"]);
        if number > 0 {
            let said = world.deft(&["depot", "preview", &reference]);
            assert!(said.code == 4 && said.err.contains("needs a token"), "{said:?}");
            let command = format!("deft source add {name} '{address}' --ask-token");
            assert!(said.err.contains(&command), "{said:?}");
            let file = folder.path().join("token");
            std::fs::write(&file, READER.1).unwrap();
            std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)).unwrap();
            // As the way out says it: what kind of place it is was said before.
            let add = ["source", "add", &name, &address, "--user", READER.0];
            world.ok(&[&add[..], &["--token-file", &file.to_string_lossy()]].concat());
        }
        if number < 2 {
            // Listing everything needs a right of its own.
            let found = search(&world, &["--source", &name, "desk"]);
            assert_eq!(found.offers[0].description.as_deref(), Some(text), "{found:?}");
            assert_eq!(found.offers[0].quantisation.as_deref(), Some("q8_0"));
        }
        world.ok(&["depot", "pull", &reference, "--as", &format!("desk{number}/q8_0")]);
        asked(&world, &format!("desk{number}"));
        // An artefact of any kind whose layer is a model file, by its only tag.
        let other = format!("{name}:seeds/mini");
        world.ok(&["depot", "pull", &other, "--as", &format!("mini{number}/q8_0")]);
        let missing = world.deft(&["depot", "preview", &format!("{name}:seeds/none/q8_0")]);
        assert!(
            missing.code == 3 && missing.err.contains("does not exist (status 404)"),
            "{missing:?}"
        );
    }
    assert!(!world.log().contains(READER.1), "no secret is in the log");
}

#[test]
fn one_file_of_a_git_repository_comes_without_the_rest_and_changes_are_taken_up() {
    let shelf = Shelf::new();
    let find = project("demo/larkfen-find/larkfen-find-q8_0.gguf");
    let files = [
        ("larkfen-desk-q8_0.gguf", desk(), true),
        ("larkfen-desk-f16.gguf", project("demo/larkfen-desk/larkfen-desk-f16.gguf"), true),
        ("find/larkfen-find.gguf", find, false),
        ("README.md", project("demo/README.md"), false),
    ];
    make_repository(shelf.folder.path(), "larkfen/desk", &files).unwrap();
    let world = World::new().start();
    world.ok(&["source", "add", "git", &shelf.url("git/{repo}")]);
    let one = preview(&world, "git:larkfen/desk/q8_0@main");
    let commit = one.revision.unwrap();
    assert_eq!((commit.len(), &one.name[..]), (40, "desk/q8_0"));
    shelf.hub.behave(Behaviour::default());
    world.ok(&["depot", "pull", "git:larkfen/desk/q8_0"]);
    asked(&world, "desk");
    let other = desk().with_file_name("larkfen-desk-f16.gguf");
    let other = deft_depot::digest_of_file(&other).unwrap().0.to_string();
    assert!(!shelf.hub.seen().iter().any(|(path, _)| path.contains(&other)), "without the rest");
    // Two of one repository at once, after a kill that left a lock behind.
    let cache = std::fs::read_dir(world.data_dir().join("sources/git")).unwrap().next();
    std::fs::write(cache.unwrap().unwrap().path().join("config.lock"), "").unwrap();
    let pull = |variant: &str, name: &str| {
        let reference = format!("git:larkfen/desk/{variant}");
        world.command(&["depot", "pull", &reference, "--as", name]).spawn().unwrap()
    };
    let mut both = [pull("f16", "both/f16"), pull("q8_0", "both/q8_0")];
    assert!(both.iter_mut().all(|pull| pull.wait().unwrap().success()), "{}", world.log());
    // A file by its name, in the repository itself.
    let raw = "git:larkfen/desk/larkfen-find.gguf";
    let judged = preview(&world, raw);
    assert!(judged.notes[0].contains("only be read with the whole file"), "{judged:?}");
    world.ok(&["depot", "pull", raw, "--as", "find/q8_0"]);
    assert!(world.ok(&["depot", "inspect", "find"]).contains("bert"));
    // The reference moves: only what changed is fetched, and a pinned state stays what it is.
    let changed = [("larkfen-desk-q8_0.gguf", mini(), true)];
    make_repository(shelf.folder.path(), "larkfen/desk", &changed).unwrap();
    let said = world.deft(&["depot", "pull", "git:larkfen/desk/q8_0"]);
    assert!(said.code == 4 && said.err.contains("deft unload desk/q8_0"), "{said:?}");
    world.ok(&["unload", "--all"]);
    let said = world.ok(&["depot", "pull", "git:larkfen/desk/q8_0"]);
    assert!(said.contains("updated `"), "{said}");
    let path = world.ok(&["depot", "path", "desk"]);
    assert_eq!(std::fs::read(path.trim()).unwrap(), std::fs::read(mini()).unwrap());
    let pinned = format!("git:larkfen/desk/q8_0@{commit}");
    world.ok(&["depot", "pull", &pinned, "--as", "desk/before"]);
    asked(&world, "desk/before");
    let missing = world.deft(&["depot", "preview", "git:larkfen/none/q8_0"]);
    assert!(missing.code > 2 && missing.err.contains("git"), "{missing:?}");
}

#[test]
fn a_redirect_of_git_carries_no_token_to_another_host() {
    let (first, other) = (Shelf::new(), Shelf::new());
    let files = [("larkfen-desk-q8_0.gguf", desk(), true)];
    for shelf in [&first, &other] {
        make_repository(shelf.folder.path(), "larkfen/desk", &files).unwrap();
    }
    let redirect = Some(format!("{}{{path}}", other.hub.address()));
    first.hub.behave(Behaviour { redirect, ..Behaviour::default() });
    let token = "larkfen-secret-1";
    let world = World::new().with("DEFT_TOKEN_SECRET", token).start();
    world.ok(&["source", "add", "open", &first.url("git/{repo}")]);
    world.ok(&["source", "add", "secret", &first.url("git/{repo}")]);
    world.ok(&["depot", "preview", "open:larkfen/desk/q8_0"]);
    assert!(other.hub.questions() > 0, "without a token it goes where it is sent");
    let asked = other.hub.questions();
    let said = world.deft(&["depot", "preview", "secret:larkfen/desk/q8_0"]);
    assert!(said.code == 4 && said.err.contains("redirects to another address"), "{said:?}");
    assert!(said.err.contains("deft source add"), "{said:?}");
    assert_eq!(other.hub.questions(), asked, "it was not even asked");
    assert!(!other.hub.seen().iter().any(|(_, header)| header.contains("Basic")), "no token");
}

#[test]
fn a_projector_comes_along_with_its_model_from_an_index_and_a_folder() {
    let shelf = Shelf::new();
    for name in ["larkfen-leaf-q8_0.gguf", "larkfen-leaf-projector-f16.gguf"] {
        let source = project("demo/larkfen-leaf").join(name);
        std::fs::copy(source, shelf.file("index").join(name)).unwrap();
    }
    shelf.describe();
    let world = shelf.world();
    world.ok(&["source", "add", "shelf", &shelf.file("index").to_string_lossy()]);
    for (source, name) in [("larkfen", "fetched"), ("shelf", "copied")] {
        let judged = preview(&world, &format!("{source}:larkfen-leaf/q8_0"));
        let files: Vec<&str> = judged.files.iter().map(|file| &file.name[..]).collect();
        assert_eq!(files, ["larkfen-leaf-q8_0.gguf", "larkfen-leaf-projector-f16.gguf"]);
        let desk = preview(&world, &format!("{source}:larkfen-desk/q8_0"));
        assert_eq!(desk.files.len(), 1, "it belongs to the other model only");
        world.ok(&["depot", "pull", &format!("{source}:larkfen-leaf/q8_0"), "--as", name]);
        let path = world.ok(&["depot", "path", name]);
        let projector = Path::new(path.trim()).with_file_name("larkfen-leaf-projector-f16.gguf");
        assert!(projector.exists(), "{}", projector.display());
    }
    // The whole folder at once takes it in as well, and does not name it as a model that is none.
    let world = World::new().start();
    let said = world.deft(&["depot", "import", &shelf.file("index").to_string_lossy(), "--all"]);
    assert!(said.code == 0 && !said.err.contains("clip"), "{said:?}");
    assert!(said.err.contains("with image projector"), "{said:?}");
    let path = world.ok(&["depot", "path", "larkfen-leaf"]);
    assert!(Path::new(path.trim()).with_file_name("larkfen-leaf-projector-f16.gguf").exists());
}

#[test]
fn a_checkpoint_of_a_listing_is_kept_as_it_is() {
    let shelf = Shelf::new();
    let world = World::new().start();
    let rules = ["--entries", "/files", "--path", "/name", "--bytes", "/about/size"];
    let list = shelf.url("list/{repo}/{revision}");
    let download = shelf.url("get/{revision}/{repo}/{path}");
    let add = ["source", "add", "hub", &list, "--download", &download];
    world.ok(&[&add[..], &rules].concat());
    assert!(world.ok(&["source", "check", "hub"]).contains("it does not list its offers"));
    let several = world.deft(&["depot", "preview", "hub:seeds"]);
    assert!(several.err.contains("seeds/q8_0, seeds/safetensors"), "{several:?}");
    world.ok(&["depot", "pull", "hub:seeds/safetensors", "--as", "seeds/checkpoint"]);
    let again = world.ok(&["depot", "pull", "hub:seeds/safetensors", "--as", "seeds/checkpoint"]);
    assert!(again.contains("is already in the depot"), "recognised by its entity tag: {again}");
    let inspected = world.deft(&["depot", "inspect", "seeds/checkpoint"]);
    assert!(inspected.out.contains("492,192") && inspected.err.contains("a checkpoint"));
    let checked = world.ok(&["depot", "check", "seeds/checkpoint"]);
    assert!(checked.contains("passed") && checked.contains("after conversion"), "{checked}");
    let refused = world.deft(&["load", "seeds/checkpoint"]);
    assert!(refused.code == 4 && refused.err.contains("after conversion"), "{refused:?}");
    let folder = shelf.file("out").to_string_lossy().into_owned();
    world.ok(&["depot", "export", "seeds/checkpoint", &folder]);
    assert_eq!(std::fs::read_dir(&folder).unwrap().count(), 3);
    // The same by import of its folder, as nothing else is in it.
    let mini = shelf.file("mini");
    std::fs::create_dir(&mini).unwrap();
    for name in ["model.safetensors", "config.json", "tokenizer.json"] {
        std::fs::copy(project("demo/larkfen-desk-mini").join(name), mini.join(name)).unwrap();
    }
    let mini = mini.to_string_lossy();
    world.ok(&["depot", "import", &mini, "--as", "mini/checkpoint"]);
    let all = project("demo").to_string_lossy().into_owned();
    let several = world.deft(&["depot", "import", &all, "--as", "several"]);
    assert!(several.code == 2 && several.err.contains("are for one model"), "{several:?}");
    // Under another name once more, though nothing in it is new.
    let again = world.ok(&["depot", "import", &mini, "--as", "mini/again"]);
    assert!(again.contains("stored as `mini/again`"), "{again}");
    let taken = world.deft(&["depot", "import", &mini, "--as", "mini/again"]);
    assert!(taken.code == 4 && taken.err.contains("is already in the depot"), "{taken:?}");
    let broken = shelf.file("broken");
    std::fs::create_dir(&broken).unwrap();
    std::fs::write(broken.join("larkfen.gguf"), "broken").unwrap();
    let refused = world.deft(&["depot", "import", &broken.to_string_lossy(), "--as", "broken"]);
    assert!(refused.code == 4 && refused.err.contains("not a GGUF file"), "{refused:?}");
    // A model's name means what can be loaded, though the checkpoint was first.
    let loadable = project("demo/larkfen-desk-mini/larkfen-desk-mini-q8_0.gguf");
    world.ok(&["depot", "import", &loadable.to_string_lossy(), "--as", "mini/q8_0"]);
    world.ok(&["load", "mini"]);
    world.ready("mini/q8_0");
    let usage = world.ok(&["depot", "usage"]);
    assert!(
        usage.contains("mini/checkpoint") && usage.contains("files that variants share count once"),
        "{usage}"
    );
    // A folder is a source too.
    world.ok(&["source", "add", "shelf", &shelf.file("index").to_string_lossy()]);
    world.ok(&["depot", "pull", "shelf:larkfen-desk/q8_0"]);
    asked(&world, "larkfen-desk");
    assert!(shelf.file("index/larkfen-desk-q8_0.gguf").is_file(), "it stays where it was");
}

#[test]
fn a_token_is_kept_from_everybody_and_reported_when_it_is_wrong() {
    let shelf = Shelf::new();
    let (token, other) = ("larkfen-secret-1", "larkfen-secret-2");
    shelf.hub.behave(Behaviour { token: Some(other.to_owned()), ..Behaviour::default() });
    let world = World::new().with("DEFT_TOKEN_BY_ENV", other).start();
    let address = shelf.url("index");
    let ask = |text: &str| {
        use std::io::Write;
        let mut command = world.command(&["source", "add", "larkfen", &address, "--ask-token"]);
        command.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
        let mut child = command.spawn().unwrap();
        child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
        assert!(child.wait_with_output().unwrap().status.success());
    };
    ask(token);
    let kept = world.data_dir().join("tokens/larkfen");
    assert_eq!(kept.metadata().unwrap().permissions().mode() & 0o777, 0o600);
    let said = world.deft(&["source", "check", "larkfen"]);
    assert!(said.code == 4 && said.err.contains("refuses the one that was sent"), "{said:?}");
    assert!(said.err.contains("--ask-token"), "{said:?}");
    ask(other);
    assert!(world.ok(&["source", "check", "larkfen"]).contains("offers 4 variants"));
    world.ok(&["depot", "pull", "larkfen:larkfen-desk/q8_0"]);
    // From the environment of the service, and from a file that only its owner may read.
    world.ok(&["source", "add", "by-env", &address]);
    assert!(world.ok(&["source", "check", "by-env"]).contains("offers 4 variants"));
    let file = shelf.file("token");
    std::fs::write(&file, other).unwrap();
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o644)).unwrap();
    let path = file.to_string_lossy().into_owned();
    let said = world.deft(&["source", "add", "by-file", &address, "--token-file", &path]);
    assert!(said.code == 4 && said.err.contains("chmod 600"), "{said:?}");
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o600)).unwrap();
    world.ok(&["source", "add", "by-file", &address, "--token-file", &path]);
    assert!(world.ok(&["source", "check", "by-file"]).contains("offers 4 variants"));
    let list = world.ok(&["source", "list"]);
    assert!(list.contains("kept") && list.contains("in DEFT_TOKEN_BY_ENV"), "{list}");
    for text in [
        world.log(),
        list,
        world.ok(&["source", "list", "--json"]),
        world.ok(&["transfers", "--json"]),
        manifests(&world),
    ] {
        assert!(!text.contains(token) && !text.contains(other), "{text}");
    }
    world.ok(&["source", "remove", "larkfen"]);
    assert!(!kept.exists());
    let gone = world.deft(&["depot", "pull", "larkfen:larkfen-desk/q8_0"]);
    assert!(gone.code == 3 && gone.err.contains("no source `larkfen`"), "{gone:?}");
    let address = shelf.hub.address().replace("http://", "http://me:larkfen-secret-2@");
    for command in [vec!["source", "add", "x", &address[..]], vec!["depot", "pull", &address[..]]] {
        let said = world.deft(&command);
        assert!(said.code == 4, "{said:?}");
    }
    assert!(!world.log().contains(other));
}

/// All that the depot wrote about its variants.
fn manifests(world: &World) -> String {
    fn read(folder: &Path, text: &mut String) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                read(&path, text);
            } else if path.extension().is_some_and(|ending| ending == "json") {
                text.push_str(&std::fs::read_to_string(&path).unwrap());
            }
        }
    }
    let mut text = String::new();
    read(&world.data_dir().join("depot/models"), &mut text);
    assert!(text.contains("larkfen:larkfen-desk/q8_0"), "where it came from is known");
    text
}

#[test]
fn encrypted_sources_need_an_authority_that_is_trusted() {
    let shelf = Shelf::with(HubOptions { encrypted: true, ..HubOptions::default() });
    let files = [("larkfen-desk-q8_0.gguf", desk(), true)];
    make_repository(shelf.folder.path(), "desk", &files).unwrap();
    let ca = shelf.file("ca.pem");
    std::fs::write(&ca, shelf.hub.certificate().unwrap()).unwrap();
    let world = shelf.world();
    let said = world.deft(&["source", "check", "larkfen"]);
    assert!(said.code == 5 && said.err.contains("cannot be reached"), "{said:?}");
    drop(world);
    let world = World::new().with("DEFT_CA_FILE", &ca.to_string_lossy()).start();
    let world = shelf.known_to(world);
    world.ok(&["depot", "pull", "larkfen:larkfen-desk/q8_0"]);
    world.ok(&["source", "add", "git", &shelf.url("git/desk.git")]);
    world.ok(&["depot", "preview", "git:q8_0"]);
}

#[test]
fn where_a_model_is_expected_a_reference_is_shown_fetched_and_used() {
    let shelf = Shelf::new();
    let world = shelf.world();
    let reference = "larkfen:larkfen-desk/q8_0";
    let said = world.deft(&["ask", reference, QUESTION]);
    assert!(said.code == 4 && said.err.contains("estimated speed: up to"), "the preview: {said:?}");
    assert!(said.err.contains("--yes"), "{said:?}");
    let said = world.deft(&["ask", reference, QUESTION, "--temperature", "0", "--yes"]);
    assert_eq!(said.out.trim(), ANSWER, "{said:?}");
    // It is here now.
    let ready = world.ok(&["load", reference, "--lanes", "2"]);
    assert!(ready.contains("`larkfen-desk/q8_0` is ready"), "{ready}");
    let wrong = world.deft(&["ask", "larkfen:larkfen-dask/q8_0", QUESTION]);
    assert!(wrong.code == 3 && wrong.err.contains("did you mean"), "{wrong:?}");
}
