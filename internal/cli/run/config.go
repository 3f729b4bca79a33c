package run

import (
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironledger.example/core/condition"
	"ironledger.example/core/yamltext"
	"ironledger.example/internal/cli/shell"
)

// onceOnly are the flags that do something once, for a reason that somebody says: no file and no environment does.
var onceOnly = []string{"new-ledger-key", "reset-clock", "new-admin-token", "config", "check-config", "help"}

// maxConfig bounds a configuration file, in bytes.
const maxConfig = 1 << 20

// Where the value of a setting comes from.
const (
	fromDefault = "default"
	fromFile    = "file"
	fromEnv     = "environment"
	fromFlag    = "flag"
)

// settings are the flags of a command, filled from a file, the environment and the command line: the later wins.
type settings struct {
	flags *pflag.FlagSet
	path  string
	from  map[string]string // by flag
}

// load fills the flags. What the command line says stays.
func load(flags *pflag.FlagSet, path string) (*settings, error) {
	s := &settings{flags, path, map[string]string{}}
	said := map[string]bool{}
	flags.VisitAll(func(f *pflag.Flag) { said[f.Name] = f.Changed })
	if path != "" {
		values, err := readConfig(path, s.names())
		if err != nil {
			return nil, err
		}
		for _, v := range values {
			if said[v.name] {
				continue
			}
			if err := s.set(v.name, v.values, fromFile); err != nil {
				return nil, fmt.Errorf("%s:%d: %s: %w", path, v.line, v.name, err)
			}
		}
	}
	for _, name := range s.names() {
		variable := variableOf(name)
		text, there := os.LookupEnv(variable)
		if !there || said[name] {
			continue
		}
		values := []string{text}
		if _, list := flags.Lookup(name).Value.(pflag.SliceValue); list {
			values = strings.FieldsFunc(text, func(r rune) bool { return r == ',' })
		}
		if err := s.set(name, values, fromEnv); err != nil {
			return nil, shell.Usagef("%s: %v", variable, err)
		}
	}
	for name, is := range said {
		if is {
			s.from[name] = fromFlag
		}
	}
	return s, nil
}

// names are the flags that a file or the environment may set.
func (s *settings) names() (out []string) {
	s.flags.VisitAll(func(f *pflag.Flag) {
		if !slices.Contains(onceOnly, f.Name) {
			out = append(out, f.Name)
		}
	})
	return out
}

// variableOf is the variable of the environment for a flag.
func variableOf(flag string) string {
	return "IRONLEDGER_" + strings.ToUpper(strings.ReplaceAll(flag, "-", "_"))
}

func (s *settings) set(name string, values []string, from string) error {
	f := s.flags.Lookup(name)
	var err error
	if list, is := f.Value.(pflag.SliceValue); is {
		err = list.Replace(values)
	} else if len(values) == 1 {
		err = f.Value.Set(values[0])
	} else {
		err = fmt.Errorf("a list stands where a single value was expected")
	}
	if err != nil {
		return err
	}
	f.Changed = true // for whoever asks what was said
	s.from[name] = from
	return nil
}

// configured is a value of a configuration file, with its line.
type configured struct {
	name   string
	values []string
	line   int
}

// readConfig reads a configuration file: flags without their dashes as keys. Each key stands once and is one of names.
func readConfig(path string, names []string) ([]configured, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("--config: %w", err)
	}
	if line := yamltext.TooDeep(string(raw)); line > 0 || len(raw) > maxConfig {
		return nil, fmt.Errorf("%s:%d: this is no configuration: it is too large, or nested too deep", path, line)
	}
	file, err := parser.ParseBytes(raw, 0)
	if err != nil {
		return nil, fmt.Errorf("%s is not YAML: %w", path, err)
	}
	var out []configured
	for _, doc := range file.Docs {
		var pairs []*ast.MappingValueNode
		switch n := doc.Body.(type) {
		case nil:
			continue
		case *ast.MappingNode:
			pairs = n.Values
		case *ast.MappingValueNode:
			pairs = []*ast.MappingValueNode{n}
		default:
			return nil, fmt.Errorf("%s:%d: settings are keys with values, as listen: 127.0.0.1:8600", path,
				n.GetToken().Position.Line)
		}
		for _, p := range pairs {
			v := configured{name: p.Key.GetToken().Value, line: p.Key.GetToken().Position.Line}
			wrong := func(format string, args ...any) error {
				return fmt.Errorf("%s:%d: %s", path, v.line, fmt.Sprintf(format, args...))
			}
			if slices.Contains(onceOnly, v.name) {
				return nil, wrong("%s does something once, and is said on the command line alone", v.name)
			}
			if !slices.Contains(names, v.name) {
				hint := "; there are " + strings.Join(names, ", ")
				if near := condition.Nearest(v.name, names); near != "" {
					hint = "; did you mean " + near + "?"
				}
				return nil, wrong("there is no setting %s%s", v.name, hint)
			}
			if slices.ContainsFunc(out, func(x configured) bool { return x.name == v.name }) {
				return nil, wrong("%s stands twice", v.name)
			}
			if v.values, err = scalars(p.Value); err != nil {
				return nil, wrong("%s: %v", v.name, err)
			}
			out = append(out, v)
		}
	}
	return out, nil
}

// scalars are the texts of a value, or of a list of them.
func scalars(n ast.Node) ([]string, error) {
	switch n := n.(type) {
	case *ast.SequenceNode:
		out := []string{}
		for _, m := range n.Values {
			one, err := scalars(m)
			if err != nil || len(one) != 1 {
				return nil, fmt.Errorf("a list of single values was expected")
			}
			out = append(out, one...)
		}
		return out, nil
	case *ast.StringNode:
		return []string{n.Value}, nil
	case *ast.LiteralNode:
		return []string{n.Value.Value}, nil
	case ast.ScalarNode:
		if n.Type() == ast.NullType {
			return nil, fmt.Errorf("there is no value")
		}
		return []string{n.GetToken().Value}, nil
	}
	return nil, fmt.Errorf("a single value or a list was expected")
}

// show lists every setting, its value, and where it comes from.
func (s *settings) show(a *shell.App) error {
	l := shell.Listing{Head: []string{"SETTING", "VALUE", "FROM"}}
	type shown struct {
		Setting string `json:"setting"`
		Value   string `json:"value"`
		From    string `json:"from"`
	}
	all := []shown{}
	for _, name := range s.names() {
		x := shown{name, strings.Trim(s.flags.Lookup(name).Value.String(), "[]"), fromDefault}
		if from := s.from[name]; from != "" {
			x.From = from
		}
		all = append(all, x)
		l.Rows = append(l.Rows, []string{x.Setting, x.Value, x.From})
	}
	l.Raw = all
	return a.Print(l)
}

// examine finds what keeps the service from starting with its settings, without starting it.
func (o *serveOptions) examine(log *slog.Logger) error {
	w, err := o.wanted(log)
	if err != nil {
		return err
	}
	for _, address := range []string{o.listen, o.devices, o.metrics} {
		if address == "" {
			continue
		}
		to, err := net.ResolveTCPAddr("tcp", address)
		if err != nil {
			return shell.Usagef("%s is no address to listen on: %v", address, err)
		}
		if address == o.metrics && !to.IP.IsLoopback() {
			return shell.Usagef("--metrics-listen %s: metrics are told without a token on loopback only", address)
		}
		if address == o.listen && w.certificate == nil && !to.IP.IsLoopback() {
			return shell.Usagef("--listen %s: without TLS the service listens on loopback only", address)
		}
	}
	if info, err := os.Stat(o.data); err == nil && !info.IsDir() {
		return fmt.Errorf("--data: %s is no folder", o.data)
	}
	return nil
}

// reloads has the service read its certificate and the level of its log again at SIGHUP, until ctx ends, and say so.
func (o *serveOptions) reloads(ctx context.Context, log *slog.Logger, cert *reloaded) {
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	go func() {
		defer signal.Stop(again)
		for {
			select {
			case <-ctx.Done():
				return
			case <-again:
			}
			o.reload(log, cert)
		}
	}()
}

func (o *serveOptions) reload(log *slog.Logger, cert *reloaded) {
	if cert != nil {
		if pair, err := tls.LoadX509KeyPair(cert.cert, cert.key); err != nil {
			log.Warn("the certificate cannot be read again; the one before goes on", "error", err)
		} else {
			cert.take(&pair)
			log.Info("the certificate was read again", "file", cert.cert, "until", pair.Leaf.NotAfter)
		}
	}
	if o.config == "" || o.level == nil {
		log.Info("there is no configuration file to read the log level from", "level", o.logLevel)
		return
	}
	var level slog.Level
	err := error(nil)
	values, err := readConfig(o.config, o.names)
	for _, v := range values {
		if v.name == "log-level" && err == nil && len(v.values) == 1 {
			err = level.UnmarshalText([]byte(v.values[0]))
		}
	}
	if err != nil {
		log.Warn("the configuration cannot be read again; the one before goes on", "error", err)
		return
	}
	o.level.Set(level)
	log.Info("the configuration was read again", "file", o.config, "log_level", level)
}

// keepToken writes the secret of a token into a file of the folder of the records that only its owner can read.
func keepToken(dir, name, secret string) (path string, err error) {
	path = filepath.Join(dir, name+".token")
	f, err := os.CreateTemp(dir, "."+name+"-*") // mode 0600
	if err != nil {
		return "", fmt.Errorf("keep the administrator's token: %w", err)
	}
	_, err = f.WriteString(secret + "\n")
	for _, step := range []func() error{f.Sync, f.Close, func() error { return os.Rename(f.Name(), path) }} {
		if err == nil {
			err = step()
		}
	}
	if err != nil {
		_ = os.Remove(f.Name()) // what is left of it
		return "", fmt.Errorf("keep the administrator's token: %w", err)
	}
	return path, nil
}

// addConfig gives a command the flags by which it is configured from a file.
func addConfig(c *cobra.Command, path *string, check *bool) {
	c.Flags().StringVar(path, "config", "", "a file with settings, YAML: flags without their dashes as keys")
	c.Flags().BoolVar(check, "check-config", false, "find what is wrong with the settings, list them, and start nothing")
}
