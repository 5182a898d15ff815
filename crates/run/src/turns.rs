//! Taking turns: whatever is scarce (reading threads, sessions, planning) is shared by callers, not by requests. A caller alone
//! gets everything; one among others never takes their turn, however much it sends.
//!
//! [`Line`] decides who is next, without threads or clocks. [`Queue`] hands work to threads, [`Gate`] lets tasks pass.

use std::collections::{HashMap, VecDeque};
use std::fmt;
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use puente_core::error::{Code, Problem};
use tokio::sync::oneshot;

/// Whose turn it is: a key, a token's subject, or an address where there is neither.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Party(Arc<str>);

impl Party {
    /// The caller of this name; names of different kinds must not meet.
    pub fn new(name: impl Into<Arc<str>>) -> Self {
        Party(name.into())
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for Party {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// The problem of a caller whose own asks fill a queue.
pub fn too_busy() -> Problem {
    let text = "too many of your requests wait already; ask again when some of them are answered";
    Problem::new(Code::TooBusy, text)
}

/// How many may work at once.
#[derive(Debug, Clone, Copy)]
pub struct Places {
    /// For whoever comes.
    pub regular: usize,
    /// Beside those, for callers that have none working: others cannot keep them waiting by working long.
    pub spare: usize,
}

/// How much there is to do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Load {
    /// What is being worked on.
    pub working: usize,
    /// What waits.
    pub waiting: usize,
    /// How much may be worked on at once.
    pub places: usize,
}

/// Callers that are remembered although nothing of theirs waits or works.
const REMEMBERED: usize = 256;

/// Who waits and who works.
#[derive(Debug)]
struct Line<T> {
    places: Places,
    most_waiting: usize,
    /// What waits, by caller; callers in the order of their turns. Those who were here lately are remembered, so that the usual ones
    /// cost nothing.
    waiting: HashMap<Party, VecDeque<T>>,
    turns: VecDeque<Party>,
    working: HashMap<Party, usize>,
    total_waiting: usize,
    total_working: usize,
}

/// What became of somebody who came.
enum Came<T> {
    /// It waits.
    Waits,
    /// It is turned away: it filled the line itself.
    TurnedAway(T),
    /// It waits in the place of the last of somebody who filled the line.
    InsteadOf(T),
}

impl<T> Line<T> {
    fn new(places: Places, most_waiting: usize) -> Self {
        Line {
            places,
            most_waiting,
            waiting: HashMap::new(),
            turns: VecDeque::new(),
            working: HashMap::new(),
            total_waiting: 0,
            total_working: 0,
        }
    }

    fn load(&self) -> Load {
        let Places { regular, spare } = self.places;
        Load { working: self.total_working, waiting: self.total_waiting, places: regular + spare }
    }

    /// May one more of a caller's work now?
    fn has_place(&self, caller: &Party) -> bool {
        let Places { regular, spare } = self.places;
        let has_none = || self.working.get(caller).is_none_or(|working| *working == 0);
        self.total_working < regular || (self.total_working < regular + spare && has_none())
    }

    fn begin(&mut self, caller: &Party) {
        self.total_working += 1;
        match self.working.get_mut(caller) {
            Some(working) => *working += 1,
            None => drop(self.working.insert(caller.clone(), 1)),
        }
    }

    fn end(&mut self, caller: &Party) {
        self.total_working -= 1;
        if let Some(working) = self.working.get_mut(caller) {
            *working -= 1;
        }
        if self.working.len() > REMEMBERED {
            self.working.retain(|_, working| *working > 0);
        }
    }

    fn come(&mut self, caller: &Party, what: T) -> Came<T> {
        let mut instead = None;
        if self.total_waiting >= self.most_waiting {
            let own = self.waiting.get(caller).map_or(0, VecDeque::len);
            let longest = self.waiting.iter().max_by_key(|(_, line)| line.len()).map(|(caller, _)| caller.clone());
            match longest.filter(|longest| self.waiting[longest].len() > own + 1) {
                Some(longest) => instead = self.leave(&longest),
                None => return Came::TurnedAway(what),
            }
        }
        if !self.waiting.contains_key(caller) {
            self.waiting.insert(caller.clone(), VecDeque::new());
        }
        if let Some(line) = self.waiting.get_mut(caller) {
            if line.is_empty() {
                self.turns.push_back(caller.clone());
            }
            line.push_back(what);
        }
        self.total_waiting += 1;
        if self.waiting.len() > REMEMBERED {
            self.waiting.retain(|_, line| !line.is_empty());
        }
        instead.map_or(Came::Waits, Came::InsteadOf)
    }

    /// The last of a caller's that waits, which does so no longer.
    fn leave(&mut self, caller: &Party) -> Option<T> {
        let line = self.waiting.get_mut(caller)?;
        let last = line.pop_back();
        if line.is_empty() {
            self.turns.retain(|known| known != caller);
        }
        self.total_waiting -= usize::from(last.is_some());
        last
    }

    /// The next whose turn it is, and who now works; none where nobody waits, or there is no place for who does.
    fn next(&mut self) -> Option<(Party, T)> {
        let at = self.turns.iter().position(|caller| self.has_place(caller))?;
        let caller = self.turns.remove(at)?;
        let line = self.waiting.get_mut(&caller)?;
        let what = line.pop_front()?;
        if !line.is_empty() {
            self.turns.push_back(caller.clone());
        }
        self.total_waiting -= 1;
        self.begin(&caller);
        Some((caller, what))
    }
}

/// Work for threads, which take it turn by turn.
#[derive(Debug)]
pub struct Queue<T> {
    state: Mutex<(Line<T>, bool)>,
    /// Threads for the regular places wait here, so that work goes round as few threads as it needs: each has its own caches.
    regular: Condvar,
    /// Those for the spare places.
    spare: Condvar,
}

/// Which places a thread is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// Whatever comes.
    Regular,
    /// What has a place although all regular ones are taken.
    Spare,
}

impl<T> Queue<T> {
    /// How much there is to do.
    pub fn load(&self) -> Load {
        self.lock().0.load()
    }

    /// A queue before so many places.
    pub fn new(places: Places, most_waiting: usize) -> Self {
        Queue {
            state: Mutex::new((Line::new(places, most_waiting), true)),
            regular: Condvar::new(),
            spare: Condvar::new(),
        }
    }

    fn lock(&self) -> MutexGuard<'_, (Line<T>, bool)> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Adds work. Gives back what is turned away: the work itself, or the last of somebody who filled the queue.
    pub fn push(&self, caller: &Party, work: T) -> Result<(), T> {
        let (came, may_begin, is_regular) = {
            let line = &mut self.lock().0;
            let is_regular = line.total_working < line.places.regular;
            (line.come(caller, work), line.has_place(caller), is_regular)
        };
        // A thread that is woken for nothing costs more than the work.
        match (may_begin, is_regular) {
            (true, true) => self.regular.notify_one(),
            (true, false) => self.spare.notify_one(),
            (false, _) => {}
        }
        match came {
            Came::Waits => Ok(()),
            Came::TurnedAway(work) | Came::InsteadOf(work) => Err(work),
        }
    }

    /// Waits for the next work; none once nobody can add any. It counts as done when the turn is dropped.
    pub fn take(&self, place: Place) -> Option<(QueueTurn<'_, T>, T)> {
        let changed = if place == Place::Regular { &self.regular } else { &self.spare };
        let mut state = self.lock();
        loop {
            let line = &mut state.0;
            if (place == Place::Regular || line.total_working >= line.places.regular)
                && let Some((caller, work)) = line.next()
            {
                return Some((QueueTurn { queue: self, caller, place }, work));
            }
            if !state.1 {
                return None;
            }
            state = changed.wait(state).unwrap_or_else(PoisonError::into_inner);
        }
    }

    /// Lets the threads end once the work is done.
    pub fn close(&self) {
        self.lock().1 = false;
        self.regular.notify_all();
        self.spare.notify_all();
    }
}

/// Work that is being done.
pub struct QueueTurn<'q, T> {
    queue: &'q Queue<T>,
    caller: Party,
    place: Place,
}

impl<T> Drop for QueueTurn<'_, T> {
    fn drop(&mut self) {
        let line = &mut self.queue.lock().0;
        line.end(&self.caller);
        // Who has a place now is taken by the thread that made it, which comes back for work; unless that is one for spare places,
        // and leaves it to the others.
        let is_left = line.total_working < line.places.regular && line.total_waiting > 0;
        if is_left && self.place == Place::Spare {
            self.queue.regular.notify_one();
        }
    }
}

/// A gate that tasks pass turn by turn.
#[derive(Debug, Clone)]
pub struct Gate(Arc<Mutex<Line<oneshot::Sender<()>>>>);

/// A task's time behind the gate: it ends when dropped.
#[derive(Debug)]
pub struct Turn {
    gate: Gate,
    caller: Party,
}

impl Gate {
    /// A gate before so many places.
    pub fn new(places: Places, most_waiting: usize) -> Self {
        Gate(Arc::new(Mutex::new(Line::new(places, most_waiting))))
    }

    fn lock(&self) -> MutexGuard<'_, Line<oneshot::Sender<()>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How much there is to do behind it.
    pub fn load(&self) -> Load {
        self.lock().load()
    }

    /// Waits for a turn. A task that is dropped while it waits does so no longer.
    ///
    /// # Errors
    /// `TOO_BUSY` for who filled the gate's line; `TIMED_OUT` at the deadline.
    pub async fn enter(&self, caller: &Party, deadline: Instant) -> Result<Turn, Problem> {
        let turn = || Turn { gate: self.clone(), caller: caller.clone() };
        let passed = {
            let mut line = self.lock();
            if line.total_waiting == 0 && line.has_place(caller) {
                line.begin(caller);
                return Ok(turn());
            }
            let (pass, passed) = oneshot::channel();
            if let Came::TurnedAway(_) = line.come(caller, pass) {
                return Err(too_busy());
            }
            passed
        };
        let mut waiting = Waiting { gate: self, caller, passed };
        // Who waits may have a place already: a spare one, that others who wait may not have.
        self.let_in();
        match tokio::time::timeout_at(deadline.into(), &mut waiting.passed).await {
            Ok(Ok(())) => Ok(turn()),
            Ok(Err(_)) => Err(too_busy()),
            Err(_) => {
                let text = "the request waited too long for its turn; ask again in a moment";
                Err(Problem::new(Code::TimedOut, text))
            }
        }
    }

    fn let_in(&self) {
        loop {
            let Some((caller, pass)) = self.lock().next() else { return };
            if pass.send(()).is_ok() {
                continue;
            }
            // It does not wait any more.
            self.lock().end(&caller);
        }
    }
}

/// A task that waits. Where it is let in at the very moment in which it gives up, its place is given back.
struct Waiting<'g> {
    gate: &'g Gate,
    caller: &'g Party,
    passed: oneshot::Receiver<()>,
}

impl Drop for Waiting<'_> {
    fn drop(&mut self) {
        self.passed.close();
        if self.passed.try_recv().is_ok() {
            self.gate.lock().end(self.caller);
            self.gate.let_in();
        }
    }
}

impl Drop for Turn {
    fn drop(&mut self) {
        self.gate.lock().end(&self.caller);
        self.gate.let_in();
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    fn caller(name: &str) -> Party {
        Party::new(name)
    }

    const TWO: Places = Places { regular: 2, spare: 1 };

    #[test]
    fn callers_take_turns_and_who_works_leaves_a_place_to_others() {
        let mut line = Line::new(TWO, 100);
        for number in 0..3 {
            assert!(matches!(line.come(&caller("loud"), number), Came::Waits));
        }
        assert_eq!((line.next().unwrap().1, line.next().unwrap().1), (0, 1), "alone it has every regular place");
        assert!(line.next().is_none());
        assert!(matches!(line.come(&caller("quiet"), 10), Came::Waits));
        assert_eq!(line.next().unwrap(), (caller("quiet"), 10), "and others have the spare one");
        line.end(&caller("loud"));
        assert!(line.next().is_none(), "two still work");
        line.end(&caller("quiet"));
        assert_eq!(line.next().unwrap().1, 2);
        assert_eq!(line.total_waiting, 0);
    }

    #[test]
    fn turns_go_round() {
        let mut line = Line::new(Places { regular: 1, spare: 0 }, 100);
        for (name, number) in [("a", 1), ("a", 2), ("a", 3), ("b", 4), ("c", 5)] {
            line.come(&caller(name), number);
        }
        let mut order = Vec::new();
        while let Some((who, number)) = line.next() {
            order.push(number);
            line.end(&who);
        }
        assert_eq!(order, [1, 4, 5, 2, 3]);
    }

    #[test]
    fn who_fills_the_line_is_turned_away() {
        let mut line = Line::new(Places { regular: 0, spare: 0 }, 3);
        for number in 0..3 {
            line.come(&caller("loud"), number);
        }
        assert!(matches!(line.come(&caller("loud"), 3), Came::TurnedAway(3)));
        assert!(matches!(line.come(&caller("quiet"), 10), Came::InsteadOf(2)), "the last of who filled it goes");
        assert_eq!(line.total_waiting, 3);
    }

    #[tokio::test]
    async fn a_gate_lets_in_who_waited_and_forgets_who_left() {
        let gate = Gate::new(Places { regular: 1, spare: 0 }, 10);
        let soon = || Instant::now() + Duration::from_secs(10);
        let first = gate.enter(&caller("a"), soon()).await.unwrap();
        let late = gate.enter(&caller("a"), Instant::now()).await.unwrap_err();
        assert_eq!(late.code, Code::TimedOut);
        let waiting = tokio::spawn({
            let gate = gate.clone();
            async move { gate.enter(&caller("b"), soon()).await.map(|_| ()) }
        });
        tokio::task::yield_now().await;
        drop(first);
        waiting.await.unwrap().unwrap();
        gate.enter(&caller("c"), soon()).await.unwrap();
        assert_eq!(gate.lock().total_working, 0);
    }
}
