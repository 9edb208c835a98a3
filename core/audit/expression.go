package audit

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"

	"vergekeep/core/pattern"
	"vergekeep/core/selector"
)

// Errors of expressions.
var (
	ErrExpression = errors.New("not an expression")
	ErrCost       = errors.New("the expression takes too long")
)

// maxCost bounds what one evaluation may cost, in CEL's own units: about one a step
// or ten characters of text.
const maxCost = 200_000

// expression is a compiled expression of the Common Expression Language.
type expression struct {
	source  string
	program cel.Program
	plain   string // the one variable that it is; "" for anything else
}

// scope is the variables of a check.
type scope struct{ texts, lists []string }

// environment is the variables of a check's expressions: what the sections capture,
// each a text, and what let gathers, each a list of texts.
func (c *Check) environment() scope {
	var s scope
	for _, source := range c.ForEach {
		if p, err := pattern.Compile(plain(source)); err == nil {
			for _, n := range p.Captures() {
				if !slices.Contains(s.texts, n) {
					s.texts = append(s.texts, n)
				}
			}
		}
	}
	s.lists = slices.Sorted(maps.Keys(c.Let))
	return s
}

// base is what all expressions share; it is made when it is first needed.
var base = sync.OnceValues(func() (*cel.Env, error) {
	text, number := cel.StringType, cel.DoubleType
	unary := func(name string, out *cel.Type, f func(string) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_string", []*cel.Type{text}, out, cel.UnaryBinding(func(v ref.Val) ref.Val {
			s, _ := v.Value().(string)
			return f(s)
		})))
	}
	binary := func(name string, out *cel.Type, f func(a, b string) ref.Val) cel.EnvOption {
		return cel.Function(name, cel.Overload(name+"_string_string", []*cel.Type{text, text}, out, cel.BinaryBinding(func(v, w ref.Val) ref.Val {
			a, _ := v.Value().(string)
			b, _ := w.Value().(string)
			return f(a, b)
		})))
	}
	return cel.NewEnv(
		ext.Strings(), ext.Sets(), cel.OptionalTypes(),
		cel.Variable("device", cel.MapType(text, cel.DynType)),
		unary("number", number, func(s string) ref.Val {
			f, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
			if err != nil {
				return types.NewErr("%q is no number", s)
			}
			return types.Double(f)
		}),
		unary("seconds", number, func(s string) ref.Val {
			d, err := time.ParseDuration(strings.ReplaceAll(s, " ", ""))
			if err != nil {
				f, ferr := strconv.ParseFloat(strings.TrimSpace(s), 64)
				if ferr != nil {
					return types.NewErr("%q is no time", s)
				}
				return types.Double(f)
			}
			return types.Double(d.Seconds())
		}),
		unary("address", text, func(s string) ref.Val {
			a, _, err := parseAddress(s)
			if err != nil {
				return types.NewErr("%q is no address", s)
			}
			return types.String(a.String())
		}),
		unary("network", text, func(s string) ref.Val {
			a, bits, err := parseAddress(s)
			if err != nil || bits < 0 {
				return types.NewErr("%q is no address with a prefix length", s)
			}
			return types.String(netip.PrefixFrom(a, bits).Masked().String())
		}),
		unary("prefix_length", cel.IntType, func(s string) ref.Val {
			_, bits, err := parseAddress(s)
			if err != nil || bits < 0 {
				return types.NewErr("%q is no address with a prefix length", s)
			}
			return types.Int(bits)
		}),
		binary("within", cel.BoolType, func(a, b string) ref.Val {
			address, _, err := parseAddress(a)
			network, bits, nerr := parseAddress(b)
			if err != nil || nerr != nil || bits < 0 {
				return types.NewErr("%q and %q are no address and network", a, b)
			}
			return types.Bool(netip.PrefixFrom(network, bits).Masked().Contains(address))
		}),
		binary("older", cel.BoolType, func(a, b string) ref.Val { return types.Bool(selector.CompareVersions(a, b) < 0) }),
	)
})

func parseAddress(s string) (a netip.Addr, bits int, err error) {
	if p, perr := netip.ParsePrefix(s); perr == nil {
		return p.Addr(), p.Bits(), nil
	}
	a, err = netip.ParseAddr(s)
	return a, -1, err
}

var identifier = regexp.MustCompile(`^[a-z_][a-z0-9_]*$`)

func newExpression(source string, s scope) (*expression, error) {
	if len(source) > 4000 {
		return nil, fmt.Errorf("%w: it is longer than 4000 bytes", ErrExpression)
	}
	env, err := base()
	if err != nil {
		return nil, err
	}
	var options []cel.EnvOption
	for _, n := range s.texts {
		if !identifier.MatchString(n) {
			return nil, fmt.Errorf("%w: {%s} cannot be named in one; use small letters, digits and _", ErrExpression, n)
		}
		options = append(options, cel.Variable(n, cel.StringType))
	}
	for _, n := range s.lists {
		options = append(options, cel.Variable(n, cel.ListType(cel.StringType)))
	}
	if env, err = env.Extend(options...); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrExpression, err)
	}
	ast, issues := env.Compile(source)
	if issues.Err() != nil {
		first := issues.Errors()[0]
		return nil, fmt.Errorf("%w: %s, at character %d of %q", ErrExpression, first.Message, first.Location.Column()+1, source)
	}
	program, err := env.Program(ast, cel.EvalOptions(cel.OptOptimize), cel.CostLimit(maxCost), cel.InterruptCheckFrequency(1000))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrExpression, err)
	}
	e := &expression{source: source, program: program}
	if slices.Contains(s.texts, source) {
		e.plain = source
	}
	return e, nil
}

// truth evaluates an expression that is true or false.
func (e *expression) truth(vars map[string]any) (bool, error) {
	out, err := e.value(vars)
	if err != nil {
		return false, err
	}
	b, ok := out.Value().(bool)
	if !ok {
		return false, fmt.Errorf("%w: %s is neither true nor false", ErrExpression, e.source)
	}
	return b, nil
}

// texts evaluates an expression that gives a text, or a list of them.
func (e *expression) texts(vars map[string]any) ([]string, error) {
	if e.plain != "" {
		s, _ := vars[e.plain].(string)
		return []string{s}, nil
	}
	out, err := e.value(vars)
	if err != nil {
		return nil, err
	}
	switch v := out.Value().(type) {
	case string:
		return []string{v}, nil
	case []string:
		return v, nil
	case []ref.Val:
		var list []string
		for _, x := range v {
			list = append(list, fmt.Sprint(x.Value()))
		}
		return list, nil
	case nil:
		return nil, nil
	default:
		return []string{fmt.Sprint(v)}, nil
	}
}

func (e *expression) value(vars map[string]any) (ref.Val, error) {
	out, _, err := e.program.Eval(vars)
	if err != nil {
		if strings.Contains(err.Error(), "actual cost limit exceeded") {
			return nil, fmt.Errorf("%w: %s", ErrCost, e.source)
		}
		return nil, fmt.Errorf("%s: %w", e.source, err)
	}
	return out, nil
}
