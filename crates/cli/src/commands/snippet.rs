//! `deft snippet`.

use deft_protocol::manage::{SnippetLanguage, SnippetTask};

use crate::arguments::{Common, Snippet};
use crate::connection;
use crate::failure::Failure;
use crate::print;

pub(super) async fn run(common: &Common, command: &Snippet) -> Result<(), Failure> {
    let client = connection::connect(common).await?;
    let language = SnippetLanguage::from(command.language);
    let task = command.task.map(SnippetTask::from);
    let all = client.snippets(&command.model).await?;
    let found = all.iter().find(|snippet| {
        snippet.language == language && task.is_none_or(|task| snippet.task == task)
    });
    let Some(found) = found else {
        let model = &command.model;
        let failure = match all.is_empty() {
            true => Failure::refused(format!(
                "`{model}` answers no calls, so there is no snippet for it"
            )),
            false => Failure::refused(format!("`{model}` does not serve this task")),
        };
        return Err(
            failure.with_way_out(format!("show what it serves: deft depot inspect {model}"))
        );
    };
    if common.json {
        print::json(found);
    } else {
        print::out(&found.code);
    }
    Ok(())
}
