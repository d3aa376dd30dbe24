//! Sends what waits to the collector, some hundred items together.

use std::sync::atomic::Ordering;
use std::time::Duration;

use opentelemetry::logs::{AnyValue, LogRecord};
use opentelemetry::trace::{SpanId, TraceFlags, TraceId};
use opentelemetry::{InstrumentationScope, KeyValue};
use opentelemetry_otlp::{LogExporter, Protocol, SpanExporter, WithExportConfig, WithHttpConfig};
use opentelemetry_sdk::Resource;
use opentelemetry_sdk::logs::{LogBatch, LogExporter as _, SdkLogRecord};
use opentelemetry_sdk::trace::{SpanData, SpanExporter as _};
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;

use super::{Collector, Item, Outbox};

/// Items of one request, and bytes from which it has no more of them.
const TOGETHER: usize = 512;
const ENOUGH: usize = 1 << 20;
/// How long items wait for others.
const GATHERED: Duration = Duration::from_secs(1);
/// How often one request is sent before it is dropped, and the pause between.
const ATTEMPTS: u32 = 3;
const PAUSE: Duration = Duration::from_secs(2);

/// What waits, and where it is sent.
#[derive(Debug)]
pub struct Sending {
    outbox: Outbox,
    endpoint: String,
    spans: SpanExporter,
    logs: LogExporter,
}

impl Outbox {
    /// Connects it with a collector; nothing is sent yet.
    ///
    /// # Errors
    /// An address or a header field that cannot be used.
    pub fn towards(self, collector: Collector) -> Result<Sending, String> {
        let (mut spans, mut logs) = exporters(&collector)?;
        let resource = Resource::builder_empty()
            .with_attributes([
                KeyValue::new("service.name", "kanzlei"),
                KeyValue::new("service.version", collector.version),
                KeyValue::new("service.instance.id", collector.process.clone()),
            ])
            .build();
        spans.set_resource(&resource);
        logs.set_resource(&resource);
        Ok(Sending { outbox: self, endpoint: collector.endpoint, spans, logs })
    }
}

impl Sending {
    /// Sends what comes until the process stops, and then what waits.
    pub async fn run(mut self, stop: CancellationToken) {
        let mut received = true;
        loop {
            let items = self.gather(&stop).await;
            if items.is_empty() {
                return;
            }
            let weight: usize = items.iter().map(Item::weight).sum();
            let (mut spans, mut lines) = (Vec::new(), Vec::new());
            for item in items {
                match item {
                    Item::Spans(more) => spans.extend(more),
                    Item::Log(record, scope) => lines.push((record, scope)),
                }
            }
            let sent = deliver(&self.spans, &self.logs, spans, &lines, &stop).await;
            self.outbox.held.fetch_sub(weight, Ordering::Relaxed);
            // Once at each turn: what is logged here is sent, too.
            match sent {
                Ok(()) if !received => tracing::info!("the collector of traces and logs receives again"),
                Err(why) if received => {
                    tracing::warn!(
                        why,
                        endpoint = self.endpoint,
                        "traces and logs are dropped: the collector does not receive them"
                    );
                    received = false;
                    continue;
                }
                Err(_) => continue,
                Ok(()) => {}
            }
            received = true;
        }
    }

    /// What is sent together; nothing once the process has stopped and nothing waits.
    async fn gather(&mut self, stop: &CancellationToken) -> Vec<Item> {
        let mut items = Vec::new();
        let first = tokio::select! {
            item = self.outbox.items.recv() => item,
            () = stop.cancelled() => self.outbox.items.try_recv().ok(),
        };
        items.extend(first);
        let mut weight: usize = items.iter().map(Item::weight).sum();
        let until = Instant::now() + GATHERED;
        while !items.is_empty() && items.len() < TOGETHER && weight < ENOUGH {
            let next = tokio::select! {
                biased;
                item = self.outbox.items.recv() => item,
                () = stop.cancelled() => self.outbox.items.try_recv().ok(),
                () = tokio::time::sleep_until(until) => None,
            };
            let Some(item) = next else { break };
            weight += item.weight();
            items.push(item);
        }
        items
    }
}

fn exporters(collector: &Collector) -> Result<(SpanExporter, LogExporter), String> {
    let below = collector.endpoint.trim_end_matches('/');
    let client = reqwest::Client::builder()
        .timeout(collector.within)
        .redirect(reqwest::redirect::Policy::none())
        .build()
        .map_err(|error| error.to_string())?;
    let unfit = |error: opentelemetry_otlp::ExporterBuildError| error.to_string();
    let spans = SpanExporter::builder()
        .with_http()
        .with_http_client(client.clone())
        .with_protocol(Protocol::HttpBinary)
        .with_endpoint(format!("{below}/v1/traces"))
        .with_timeout(collector.within)
        .with_headers(collector.headers.clone())
        .build()
        .map_err(unfit)?;
    let logs = LogExporter::builder()
        .with_http()
        .with_http_client(client)
        .with_protocol(Protocol::HttpBinary)
        .with_endpoint(format!("{below}/v1/logs"))
        .with_timeout(collector.within)
        .with_headers(collector.headers.clone())
        .build()
        .map_err(unfit)?;
    Ok((spans, logs))
}

async fn deliver(
    spans_to: &SpanExporter,
    logs_to: &LogExporter,
    spans: Vec<SpanData>,
    lines: &[(Box<SdkLogRecord>, InstrumentationScope)],
    stop: &CancellationToken,
) -> Result<(), String> {
    let lines: Vec<_> = lines.iter().map(|(record, scope)| (&**record, scope)).collect();
    let (mut spans, mut lines) = (Some(spans).filter(|spans| !spans.is_empty()), Some(&lines[..]));
    let mut attempt = 1;
    loop {
        let mut why = None;
        if let Some(asked) = spans.take() {
            let again = asked.clone();
            if let Err(error) = spans_to.export(asked).await {
                (spans, why) = (Some(again), Some(error.to_string()));
            }
        }
        if let Some(asked) = lines.take().filter(|lines| !lines.is_empty())
            && let Err(error) = logs_to.export(LogBatch::new(asked)).await
        {
            (lines, why) = (Some(asked), Some(error.to_string()));
        }
        let Some(why) = why else { return Ok(()) };
        // A process that stops does not wait.
        if attempt == ATTEMPTS || stop.is_cancelled() {
            return Err(why);
        }
        attempt += 1;
        tokio::select! {
            () = tokio::time::sleep(PAUSE) => {}
            () = stop.cancelled() => {}
        }
    }
}

/// Bytes of the texts of a line.
pub fn text_of(record: &SdkLogRecord) -> usize {
    let length = |value: &AnyValue| match value {
        AnyValue::String(text) => text.as_str().len(),
        _ => 16,
    };
    let attributes = record.attributes_iter().map(|(key, value)| key.as_str().len() + length(value));
    record.body().map_or(0, length) + attributes.sum::<usize>()
}

/// Joins a line with the trace of its run, whose `traceparent` is one of its attributes.
pub fn join_trace(record: &mut SdkLogRecord) {
    let named = record.attributes_iter().find(|(key, _)| key.as_str() == "trace");
    let Some((_, AnyValue::String(text))) = named else { return };
    let Some(trace) = kanzlei_model::trace::Trace::read(text.as_str()) else { return };
    let flags = if trace.sampled { TraceFlags::SAMPLED } else { TraceFlags::default() };
    let span = SpanId::from_bytes(trace.parent.unwrap_or(0).to_be_bytes());
    record.set_trace_context(TraceId::from_bytes(trace.id.to_be_bytes()), span, Some(flags));
}
