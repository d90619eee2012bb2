//! What an instance is loaded from, and with which settings.

use std::path::{Path, PathBuf};

use deft_depot::VariantName;
use deft_planning::{
    Candidate, Demand, Grant, LoadSettings, ModelShape, Placement, RequestedPlace,
};
use deft_protocol::manage::{IdleLimit, USUAL_SHARE, instance_title};
use uuid::Uuid;

/// What is to be loaded.
#[derive(Debug, Clone)]
pub(crate) struct Target {
    pub(crate) variant: Uuid,
    /// Which instance of the variant; the first is 1.
    pub(crate) number: u32,
    pub(crate) name: VariantName,
    /// The model's file, or its parts, the first one first.
    pub(crate) files: Vec<PathBuf>,
    pub(crate) shape: ModelShape,
    /// A chat template in place of the file's own.
    pub(crate) template: Option<String>,
    pub(crate) settings: LoadSettings,
    /// Where its layers are requested; host memory where nothing is said.
    pub(crate) places: Vec<RequestedPlace>,
    pub(crate) policy: Policy,
}

/// What is about staying loaded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Policy {
    /// Never unloaded to make room.
    pub(crate) pinned: bool,
    /// Lower ones make room first and come back last.
    pub(crate) importance: i32,
    /// Of the processor, in proportion to what others have.
    pub(crate) share: u32,
    /// When it is unloaded for want of calls.
    pub(crate) idle: IdleLimit,
}

impl Default for Policy {
    fn default() -> Self {
        Self { pinned: false, importance: 0, share: USUAL_SHARE, idle: IdleLimit::default() }
    }
}

impl Target {
    /// The file that stands for the model.
    pub(super) fn path(&self) -> &Path {
        self.files.first().map_or(Path::new(""), PathBuf::as_path)
    }

    /// The variant, with the number of the instance where that is not the first.
    pub(crate) fn title(&self) -> String {
        instance_title(&self.name.to_string(), self.number)
    }

    /// As the ledger judges it; `title` is its own.
    pub(super) fn candidate<'a>(&'a self, title: &'a str) -> Candidate<'a> {
        let file = self.path().to_str().unwrap_or(title);
        let Self { shape, settings, places, .. } = self;
        Candidate { name: title, file, shape, settings, places }
    }

    /// Whether an instance loaded by `self` is as `other` requested it.
    pub(super) fn is_loaded_as(&self, other: &Self) -> bool {
        self.settings == other.settings && self.places == other.places
    }

    /// What it needs where it can be planned only in host memory.
    pub(crate) fn in_host(&self) -> Grant {
        let placement = Placement::in_host(self.shape.placeable());
        let demand = Demand::of(&self.shape, &self.settings, &placement);
        Grant { placement, demand }
    }
}
