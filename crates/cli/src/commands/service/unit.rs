//! `deft service unit`.

use crate::arguments::Common;
use crate::failure::Failure;
use crate::print;

/// The unit.
const UNIT: &str = include_str!("../../../../../deploy/deft-harbor.service");
/// Path of the program in the unit.
const PROGRAM: &str = "/usr/local/bin/deft";

pub(super) fn run(common: &Common) -> Result<(), Failure> {
    let program = std::env::current_exe()?;
    let mut unit = UNIT.replace(PROGRAM, &program.display().to_string());
    if let Some(data_dir) = &common.data_dir {
        let setting =
            format!("Environment=DEFT_DATA_DIR={}", std::path::absolute(data_dir)?.display());
        unit = unit.replace("Environment=DEFT_DATA_DIR=/var/lib/deft-harbor", &setting);
    }
    if common.json {
        print::json(&serde_json::json!({"unit": unit}));
        return Ok(());
    }
    print::out(&unit);
    print::note(
        "# save it as /etc/systemd/system/deft-harbor.service, then run:\n\
         #   useradd --system --home-dir /var/lib/deft-harbor deft\n\
         #   systemctl daemon-reload && systemctl enable --now deft-harbor",
    );
    Ok(())
}
