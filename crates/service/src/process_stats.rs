//! What the operating system says of this process: time, memory, open files. Names are those that scrapers know.

use std::sync::atomic::AtomicU64;

use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::Registry;

/// What is told of the process.
#[derive(Debug, Default)]
pub(crate) struct ProcessStats {
    cpu_seconds: Counter<f64, AtomicU64>,
    resident_bytes: Gauge,
    open_files: Gauge,
    start_time: Gauge<f64, AtomicU64>,
}

impl ProcessStats {
    pub(crate) fn register(&self, registry: &mut Registry) {
        let seconds = "Seconds of processor time, of user and system";
        registry.register("process_cpu_seconds", seconds, self.cpu_seconds.clone());
        registry.register("process_resident_memory_bytes", "Bytes of memory in use", self.resident_bytes.clone());
        registry.register("process_open_fds", "Open files and sockets", self.open_files.clone());
        registry.register(
            "process_start_time_seconds",
            "When it started, in seconds since 1970",
            self.start_time.clone(),
        );
    }

    /// Looks anew. Where the system says nothing, what was known stays.
    pub(crate) fn look(&self) {
        #[cfg(target_os = "linux")]
        if let Some(found) = linux::look() {
            self.cpu_seconds.inc_by((found.cpu_seconds - self.cpu_seconds.get()).max(0.0));
            self.resident_bytes.set(found.resident_bytes);
            self.open_files.set(found.open_files);
            self.start_time.set(found.start_time);
        }
    }
}

#[cfg(target_os = "linux")]
mod linux {
    /// Ticks in which the kernel counts time for programs, the same on every machine.
    const TICKS: f64 = 100.0;

    pub(super) struct Found {
        pub(super) cpu_seconds: f64,
        pub(super) resident_bytes: i64,
        pub(super) open_files: i64,
        pub(super) start_time: f64,
    }

    /// From `/proc`, see proc(5).
    pub(super) fn look() -> Option<Found> {
        let stat = std::fs::read_to_string("/proc/self/stat").ok()?;
        // Behind the name, which is in brackets and may hold anything: the state is the third field.
        let fields: Vec<&str> = stat.rsplit_once(") ")?.1.split(' ').collect();
        let ticks = |field: usize| fields.get(field - 3).and_then(|text| text.parse::<f64>().ok());
        let status = std::fs::read_to_string("/proc/self/status").ok()?;
        let resident = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
        let kilobytes: i64 = resident.trim().strip_suffix(" kB")?.trim().parse().ok()?;
        let system = std::fs::read_to_string("/proc/stat").ok()?;
        let booted: f64 = system.lines().find_map(|line| line.strip_prefix("btime "))?.trim().parse().ok()?;
        Some(Found {
            cpu_seconds: (ticks(14)? + ticks(15)?) / TICKS,
            resident_bytes: kilobytes * 1_024,
            open_files: i64::try_from(std::fs::read_dir("/proc/self/fd").ok()?.count()).ok()?,
            start_time: booted + ticks(22)? / TICKS,
        })
    }
}
