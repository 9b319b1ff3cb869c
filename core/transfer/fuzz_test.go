package transfer

import "testing"

const planFile = `part:
  core: 80 MHz
  memories:
    main: {start: 0x3000_0000, bytes: 65536}
    cached: {start: 0x3800_0000, bytes: 4096, cached: yes}
  dma:
    channels: 4
    requests:
      - {line: one.receive, channels: 1 3}
      - {line: one.send}
  interrupts: {levels: 8, kernel: 2, others: {control: {urgency: 1, worst: 20 us}}}
units:
  one: {rate: 115200, bits: 8, line-bits: 10, depth: 2}
transfers:
  in: {unit: one, direction: receive, goal: ring, method: dma, length: 64}
  out: {unit: one, direction: send, method: dma, length: 16, chain: 0x30000800*4 0x30000900*2}
start: {order: "in:channel in:request one:enable", step: 3 us}
`

// Any text is read as plans or refused with a place, and plans that are read are checked, said
// and run without a panic.
func FuzzPlans(f *testing.F) {
	f.Add([]byte(planFile))
	f.Add([]byte("part: {core: 1 Hz}\nunits: {u: {rate: 1 Bd}}\ntransfers: {t: {unit: u, direction: send, count: 0, goal: repeat}}\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, _, faults := ReadFile("plans.yaml", text)
		if len(faults) > 0 {
			for _, x := range faults {
				if x.Where.Line == 0 && x.Code != "" && x.Seen == "" {
					t.Errorf("a fault without words: %+v", x)
				}
			}
			return
		}
		for _, fault := range s.Check() {
			if fault.Seen == "" || fault.Code == "" {
				t.Errorf("a fault without words: %+v", fault)
			}
		}
		for _, p := range s.Plans {
			_ = p.Sentence()
			_ = p.Footprints(8, 8)
			if p.Length <= 4096 && p.Count <= 4096 && p.Bytes <= 4096 && p.Stream.Depth <= 4096 {
				_ = s.RunOf(p, 8)
			}
		}
		_, _, _ = s.Owners()
	})
}
