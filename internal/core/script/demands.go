package script

import "slices"

// Demand is a property the script wants to have one of some values.
type Demand struct {
	Property string
	Values   []string
}

// Demands gives what the script's assertions demand of properties. What is put
// in other ways is not guessed.
func (n *Node) Demands() []Demand {
	var list []Demand
	n.Walk(func(n *Node) bool {
		if n.Op != "call" || n.Text != "assert" {
			return true
		}
		for _, a := range n.Args {
			for _, d := range alternatives(a) {
				i := slices.IndexFunc(list, func(o Demand) bool { return o.Property == d.Property })
				if i < 0 {
					list = append(list, d)
				} else {
					list[i].Values = append(list[i].Values, d.Values...)
				}
			}
		}
		return false
	})
	return list
}

// alternatives reads comparisons of properties with strings, joined by ||.
func alternatives(n *Node) []Demand {
	switch n.Op {
	case "||":
		return append(alternatives(n.Args[0]), alternatives(n.Args[1])...)
	case "&&":
		return append(alternatives(n.Args[0]), alternatives(n.Args[1])...)
	case "==":
		for i, side := range n.Args {
			other := n.Args[1-i]
			if side.Op == "call" && side.Text == "getprop" && len(side.Args) == 1 &&
				side.Args[0].Op == "string" && other.Op == "string" {
				return []Demand{{Property: side.Args[0].Text, Values: []string{other.Text}}}
			}
		}
	case "call": // abort texts and the like stand beside
		if n.Text == "assert" || n.Text == "abort" || n.Text == "ui_print" {
			return nil
		}
	}
	return nil
}
