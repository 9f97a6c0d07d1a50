package expression

import (
	"fmt"
	"math/bits"
	"sync"

	"github.com/google/cel-go/cel"
	"github.com/google/cel-go/checker"
	"github.com/google/cel-go/common/ast"
	"github.com/google/cel-go/common/types"
)

// maxEstimate bounds what one evaluation of an expression may take, as CEL estimates it; texts count
// as a thousand letters, lists as a hundred elements.
const maxEstimate = 1_000_000

// affordable says why an expression may take too long, with all functions that it calls. That is
// decided before it is used; what a row's longer texts make of it is counted while it is worked
// out, see [meter].
func affordable(checked *cel.Ast, own map[string]*ownFunction) error {
	cost, err := checker.Cost(checked.NativeRep(), sizes{own: own})
	if err != nil || cost.Max <= maxEstimate {
		return err
	}
	return fmt.Errorf("may take too long: up to %d steps for one event, the limit is %d", cost.Max, maxEstimate)
}

// sizes are what the cost of an expression is estimated by: by default, or within a function by its
// arguments' names.
type sizes struct {
	own       map[string]*ownFunction
	arguments map[string]checker.SizeEstimate
	result    *checker.SizeEstimate // of what is measured
}

// measuring is a function that stands around an expression of which the size is asked.
const measuring = "@measured"

// EstimateSize implements [checker.CostEstimator].
func (s sizes) EstimateSize(element checker.AstNode) *checker.SizeEstimate {
	if path := element.Path(); len(path) == 1 {
		if size, is := s.arguments[path[0]]; is {
			return &size
		}
	}
	if element.Type().Kind() == types.ListKind || element.Type().Kind() == types.MapKind {
		return &checker.SizeEstimate{Min: 0, Max: 100}
	}
	return &checker.SizeEstimate{Min: 0, Max: 1000}
}

// EstimateCallCost implements [checker.CostEstimator].
func (s sizes) EstimateCallCost(function, _ string, target *checker.AstNode, args []checker.AstNode) *checker.CallEstimate {
	size := func(of checker.AstNode) checker.SizeEstimate {
		if known := of.ComputedSize(); known != nil {
			return *known
		}
		return *s.EstimateSize(of)
	}
	one := checker.FixedSizeEstimate(1)
	makes := func(result checker.SizeEstimate) *checker.CallEstimate {
		result.Min = 0
		return &checker.CallEstimate{CostEstimate: result.Add(one).MultiplyByCostFactor(0.1), ResultSize: &result}
	}
	switch {
	case function == measuring:
		*s.result = size(args[0])
		return &checker.CallEstimate{}
	case s.own[function] != nil:
		of := make([]checker.SizeEstimate, len(args))
		for i := range args {
			of[i] = size(args[i])
		}
		return s.own[function].size.of(s.own[function], s.own, of)
	case target == nil:
		return nil
	case function == "replace" && len(args) >= 2:
		text := size(*target)
		return makes(text.Add(text.Add(one).Multiply(size(args[1]))))
	case function == "join":
		between := one
		if len(args) == 1 {
			between = size(args[0])
		}
		return makes(size(*target).Multiply(checker.SizeEstimate{Max: 1000}.Add(between)))
	case function == "format":
		return makes(size(*target).Add(size(*target).Multiply(checker.SizeEstimate{Max: 100})))
	}
	return nil
}

// mostEstimates is how many different calls of one function are looked at; what has more takes too
// long to be estimated.
const mostEstimates = 1000

// estimated is what calls of an own function were estimated at.
type estimated struct {
	checked *cel.Ast
	mu      sync.Mutex
	known   map[string]*checker.CallEstimate
}

// of is what a call takes with arguments of these sizes, which are rounded up so that there are few.
func (e *estimated) of(f *ownFunction, own map[string]*ownFunction, args []checker.SizeEstimate) *checker.CallEstimate {
	within := sizes{own: own, arguments: make(map[string]checker.SizeEstimate, len(args)), result: new(checker.SizeEstimate)}
	key := ""
	for i := range args {
		power := min(bits.Len64(args[i].Max), 62)
		within.arguments[f.Arguments[i].Name] = checker.SizeEstimate{Max: 1 << power}
		key += fmt.Sprint(power, " ")
	}
	e.mu.Lock()
	found, full := e.known[key], len(e.known) == mostEstimates
	e.mu.Unlock()
	switch {
	case found != nil:
		return found
	case full:
		return &checker.CallEstimate{CostEstimate: checker.FixedCostEstimate(maxEstimate + 1)}
	}
	native := e.checked.NativeRep()
	kinds, references := native.TypeMap(), native.ReferenceMap()
	id := int64(1 << 40)
	measured := ast.NewCheckedAST(ast.NewAST(ast.NewExprFactory().NewCall(id, measuring, native.Expr()), native.SourceInfo()), make(map[int64]*types.Type, len(kinds)+1), make(map[int64]*ast.ReferenceInfo, len(references)+1))
	for at, kind := range kinds {
		measured.SetType(at, kind)
	}
	for at, reference := range references {
		measured.SetReference(at, reference)
	}
	measured.SetType(id, types.IntType)
	measured.SetReference(id, ast.NewFunctionReference(measuring))
	cost, err := checker.Cost(measured, within)
	if err != nil { // it was checked: this does not happen
		cost.Max = maxEstimate + 1
	}
	estimate := &checker.CallEstimate{CostEstimate: checker.CostEstimate{Max: cost.Max}.Add(checker.FixedCostEstimate(1)), ResultSize: within.result}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.known[key] = estimate
	return estimate
}
