package main

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"gavrix.org/gavrix/core/doc"
)

// idle refuses flags that were given although they have no effect here, and says where
// that is, as `without --clock`.
func idle(cmd *cobra.Command, where string, flags ...string) error {
	var given []string
	for _, f := range flags {
		if cmd.Flags().Changed(f) {
			given = append(given, "--"+f)
		}
	}
	return refused(given, where)
}

// active refuses all flags that were given but these, which have an effect here.
func active(cmd *cobra.Command, where string, flags ...string) error {
	var given []string
	cmd.Flags().Visit(func(f *pflag.Flag) {
		if !slices.Contains(flags, f.Name) {
			given = append(given, "--"+f.Name)
		}
	})
	return refused(given, where)
}

func refused(given []string, where string) error {
	switch len(given) {
	case 0:
		return nil
	case 1:
		return fmt.Errorf("%s has no effect %s", given[0], where)
	}
	return fmt.Errorf("%s have no effect %s", strings.Join(given, ", "), where)
}

// flagError says in our words what is wrong with a flag.
func flagError(cmd *cobra.Command, err error) error {
	var unknown *pflag.NotExistError
	var missing *pflag.ValueRequiredError
	var bad *pflag.InvalidValueError
	switch {
	case errors.As(err, &unknown):
		name := unknown.GetSpecifiedName()
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
		if near := doc.Nearest(name, names); near != "" {
			return fmt.Errorf("%s has no flag --%s; did you mean --%s?", cmd.CommandPath(), name, near)
		}
		return fmt.Errorf("%s has no flag --%s; %s --help lists them", cmd.CommandPath(), name, cmd.CommandPath())
	case errors.As(err, &missing):
		return fmt.Errorf("--%s needs a value: %s", missing.GetFlag().Name, missing.GetFlag().Usage)
	case errors.As(err, &bad):
		what := map[string]string{"int": "a whole number", "intSlice": "whole numbers, as 16,8", "duration": "a time, as 5s", "bool": "true or false"}[bad.GetFlag().Value.Type()]
		return fmt.Errorf("--%s %s: write %s", bad.GetFlag().Name, bad.GetValue(), what)
	}
	return err
}
