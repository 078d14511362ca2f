// Package change carries out an approved plan on a host: originals first, in a journal on stable storage; narrow before
// widen; through handles; resumable after a crash at any point.
//
// # A step
//
// Each step leads one path from the state that was reviewed to the state that was approved:
//
//	                 not as reviewed            it fails, or the path is another
//	          ┌───────────────────────▶ skipped or refused ◀──────────────┐
//	          │                                                           │
//	pending ──┴─▶ examined ──▶ original in the journal ──▶ narrowed ──▶ widened ──▶ done
//	   ▲                                  │                   │
//	   └──────────── a crash: the run looks again, and goes on from what it finds
//
// A path with nothing below it that is changed too goes from examined to done at once (stage passing). A folder that
// leads to other steps is narrowed when the walk enters it (entering), and widened when the walk has left it
// (leaving). A scheme whose states change all at once has no state between: its narrowed state is the one that comes
// after.
//
// # What holds, whatever happens
//
//   - I1: a path is changed only if it is the one that was reviewed: the same file, in the same state, beneath the
//     plan's root, reached through no symlink, under one name (TestAnotherFileAtThePath, TestSwaps,
//     TestSwapsInTheMiddle, TestRefusedAndSkipped).
//   - I2: the original is on stable storage before the first call that changes the path (TestCrashEverywhere,
//     TestFullDisk).
//   - I3: at no call can anybody do more than before or than afterwards, by a path or through what leads to it
//     (TestNeverMoreOpen).
//   - I4: wherever a run is cut, it can be resumed to its end or put back to its beginning, or says what is lost
//     (TestCrashAnywhere, TestHaltAndResume, TestEveryBitOfAJournal, TestHolesInAJournal).
//   - I5: a program gets power only if it still has the content that was reviewed, and nobody can write it meanwhile
//     (TestPowerIsForWhatWasReviewed, TestPowerComesBackToTheSameProgram, TestPowerAgainstAWriterAllTheTime).
//   - I6: what was narrowed is never left so: a folder that is moved away meanwhile gets back what it had
//     (TestMovedWhileNarrow).
package change
