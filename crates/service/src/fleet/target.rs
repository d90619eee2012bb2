//! What an instance is loaded from, and with which settings.

use std::path::{Path, PathBuf};

use deft_depot::VariantName;
use deft_planning::{
    Candidate, Demand, Grant, LoadSettings, ModelShape, Placement, RequestedPlace,
};
use deft_protocol::manage::{IdleLimit, USUAL_SHARE, instance_title};
use uuid::Uuid;

/// An instance to load.
#[derive(Debug, Clone)]
pub(crate) struct Target {
    pub(crate) variant: Uuid,
    /// Which instance of the variant; the first is 1.
    pub(crate) number: u32,
    pub(crate) name: VariantName,
    /// The model's file, or its parts in order.
    pub(crate) files: Vec<PathBuf>,
    pub(crate) shape: ModelShape,
    /// Chat template that replaces the file's own.
    pub(crate) template: Option<String>,
    pub(crate) settings: LoadSettings,
    /// Requested places of its layers; host memory by default.
    pub(crate) places: Vec<RequestedPlace>,
    pub(crate) policy: Policy,
}

/// Settings about eviction, processor share and idle time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Policy {
    /// Never evicted.
    pub(crate) pinned: bool,
    /// Lower ones are evicted first and reloaded last.
    pub(crate) importance: i32,
    /// Processor share, in proportion to the others'.
    pub(crate) share: u32,
    /// Idle time after which it is unloaded.
    pub(crate) idle: IdleLimit,
}

impl Default for Policy {
    fn default() -> Self {
        Self { pinned: false, importance: 0, share: USUAL_SHARE, idle: IdleLimit::default() }
    }
}

impl Target {
    /// The first file.
    pub(super) fn path(&self) -> &Path {
        self.files.first().map_or(Path::new(""), PathBuf::as_path)
    }

    /// The variant's name, with the number of the instance unless it is the first.
    pub(crate) fn title(&self) -> String {
        instance_title(&self.name.to_string(), self.number)
    }

    /// The load as the ledger plans it; `title` is [`Self::title`].
    pub(super) fn candidate<'a>(&'a self, title: &'a str) -> Candidate<'a> {
        let file = self.path().to_str().unwrap_or(title);
        let Self { shape, settings, places, .. } = self;
        Candidate { name: title, file, shape, settings, places }
    }

    /// Whether an instance that was loaded by `self` is what `other` requests.
    pub(super) fn is_loaded_as(&self, other: &Self) -> bool {
        self.settings == other.settings && self.places == other.places
    }

    /// Places and memory if all of it is in host memory.
    pub(crate) fn in_host(&self) -> Grant {
        let placement = Placement::in_host(self.shape.placeable());
        let demand = Demand::of(&self.shape, &self.settings, &placement);
        Grant { placement, demand }
    }
}
