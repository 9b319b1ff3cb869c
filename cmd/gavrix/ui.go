package main

import (
	"errors"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

type uiOptions struct{}

func (*uiOptions) flags(*pflag.FlagSet)  {}
func openBench(string, *uiOptions) error { return errors.New("x") }
func demoCommand() *cobra.Command        { return &cobra.Command{Use: "demo"} }
func openCommand() *cobra.Command        { return &cobra.Command{Use: "open"} }
