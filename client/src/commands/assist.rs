//! `mcp`: a Model Context Protocol server over standard input and output, which asks the control API.

use std::sync::Arc;

use kanzlei_assistant::{Answer, Asked, Assistant, Control, Request};

use crate::api::Api;
use crate::{Done, Error};

struct OverHttp(Api);

impl Control for OverHttp {
    fn ask(&self, request: Request) -> Asked<'_> {
        let api = self.0.clone();
        Box::pin(async move {
            let ask = move || {
                let body = request.body.map(|body| body.to_string());
                api.raw(request.method, &request.path, body, request.condition)
            };
            let answer = tokio::task::spawn_blocking(ask).await.map_err(|error| error.to_string())?;
            match answer {
                Ok((status, body)) => Ok(Answer { status, body }),
                Err(Error::Usage(why) | Error::Unavailable(why) | Error::Failed(why)) => Err(why),
                Err(Error::Bad) => Err("the service does not answer".to_owned()),
            }
        })
    }
}

/// Serves one assistant until it closes standard input.
pub fn serve(api: Api, deploys: bool) -> Done {
    let assistant = Assistant::new(Arc::new(OverHttp(api)), deploys);
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(|error| Error::Failed(error.to_string()))?;
    let done = runtime.block_on(kanzlei_assistant::over_stdio(assistant)).map_err(Error::Failed);
    // Standard input is read on a thread that ends with the process.
    runtime.shutdown_background();
    done
}
