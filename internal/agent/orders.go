package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"idletally/internal/atomicfile"
	"idletally/internal/core/plan"
	"idletally/internal/core/untrusted"
)

// An order counts once. A run's journal shows that it was begun; but journals are removed in time, and a folder of
// runs can be lost. So the orders that were taken are recorded beside it, for as long as they are valid.

const ordersFile = "orders.json"

// maxOrders is far more than a host is given before the first of them expire.
const maxOrders = 100_000

// taken returns the runs whose orders were taken, with when the orders expire.
func (a *Agent) taken() (map[string]time.Time, error) {
	out := map[string]time.Time{}
	b, err := os.ReadFile(filepath.Join(a.Folder, ordersFile))
	if errors.Is(err, os.ErrNotExist) {
		return out, nil
	}
	if err == nil {
		err = untrusted.JSON(b, 3*maxOrders, &out)
	}
	if err != nil {
		return nil, fmt.Errorf("which orders were taken: %w: nothing is changed before %s can be read", err, ordersFile)
	}
	return out, nil
}

// refuseTaken refuses an order that was taken before if nothing of its run is in the folder any more.
func (a *Agent) refuseTaken(o plan.Order, folder string) error {
	taken, err := a.taken()
	if err != nil {
		return err
	}
	if _, again := taken[o.Run]; !again {
		return nil
	}
	if left, err := os.ReadDir(folder); err != nil || len(left) == 0 {
		return fmt.Errorf(
			"order refused: run %s was begun here before, and nothing of it is there any more: draft the plan again",
			o.Run)
	}
	return nil
}

// takeOrder records an order, before it changes anything.
func (a *Agent) takeOrder(o plan.Order) error {
	taken, err := a.taken()
	if err != nil {
		return err
	}

	for run, until := range taken {
		if time.Now().After(until) {
			delete(taken, run)
		}
	}

	if len(taken) >= maxOrders {
		return fmt.Errorf("order refused: %d orders are still good, which is more than a host is given", maxOrders)
	}

	taken[o.Run] = o.Expires
	b, err := json.Marshal(taken)
	if err != nil {
		return err
	}
	if err := atomicfile.Write(filepath.Join(a.Folder, ordersFile), b); err != nil {
		return fmt.Errorf("note the order: %w", err)
	}

	return nil
}
