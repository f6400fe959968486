package demo

import (
	"fmt"
	"strings"
)

// pictures returns the museum's pictures, drawn here, by file name.
func pictures() map[string]string {
	tower := `<path d="M180 215 190 80h40l10 135z" fill="#f4f1ea" stroke="#23313d"/><path d="M187 120h46l2 30h-50zM183 178h54l2 28h-58z" fill="#b3402e"/>` +
		`<rect x="192" y="56" width="36" height="24" fill="#cfe6ee" stroke="#23313d"/><path d="M188 56 210 36l22 20z" fill="#b3402e" stroke="#23313d"/><rect x="184" y="78" width="52" height="5" fill="#23313d"/>`
	rock := `<path d="M90 240 130 214 180 206h70l50 12 40 22z" fill="#5d5a55"/>`
	scene := func(sky, sea, rest string) string {
		return svg(420, 280, `<rect width="420" height="280" fill="`+sky+`"/><path d="M0 226q35-10 70 0t70 0 70 0 70 0 70 0 70 0v54H0z" fill="`+sea+`"/>`+rest)
	}
	rings := ""
	for i := range 7 {
		rings += fmt.Sprintf(`<ellipse cx="210" cy="140" rx="%d" ry="%d" fill="none" stroke="#2b6777" stroke-width="%d"/>`, 150-20*i, 115-15*i, 2+i%3)
	}
	stairs := ""
	for i := range 9 {
		stairs += fmt.Sprintf(`<path d="M%d %dh34" stroke="#23313d" stroke-width="2"/>`, 176+(i%2)*34, 220-i*16)
	}
	pages := ""
	for i := range 9 {
		pages += fmt.Sprintf(`<path d="M90 %dh104M228 %dh104" stroke="#8a8577"/>`, 96+i*14, 96+i*14)
	}
	curve := svg(420, 200, `<rect width="420" height="200" fill="#fff"/><path d="M20 180h380M20 20v160" stroke="#23313d"/><path d="M20 60c60 0 70 110 130 110s70-120 130-120 60 100 120 100" fill="none" stroke="#1f5a7a" stroke-width="3"/><text x="26" y="34" font-size="13">metres above the white post</text>`)
	return map[string]string{
		"lighthouse.svg":       scene("#cfe2ea", "#3c7a93", rock+tower),
		"lighthouse-2x.svg":    scene("#cfe2ea", "#3c7a93", rock+tower+`<circle cx="340" cy="60" r="22" fill="#f3d46b"/>`),
		"lighthouse-night.svg": scene("#17222d", "#0e2c3b", `<path d="M210 66 0 20v60zM210 66l210-40v70z" fill="#f3e3a0" opacity=".35"/>`+rock+tower),
		"waves.svg":            scene("#e9eef0", "#6f9fb0", `<path d="M0 190q50-50 100 0t100 0 100 0 120 0" fill="none" stroke="#fff" stroke-width="9"/>`),
		"boat.svg":             scene("#dce9ec", "#3c7a93", `<path d="M110 214h190l-24 34H136z" fill="#7a4a2a"/><path d="M200 214V110l70 92z" fill="#fbf8f0" stroke="#23313d"/>`),
		"lens.svg":             svg(420, 280, `<rect width="420" height="280" fill="#f1f6f4"/>`+rings+`<circle cx="210" cy="140" r="16" fill="#f3d46b"/>`),
		"tower-plan.svg":       svg(420, 280, `<rect width="420" height="280" fill="#fdfcf7"/><path d="M160 250 176 60h68l16 190z" fill="none" stroke="#23313d" stroke-width="2"/>`+stairs+`<path d="M270 60v190" stroke="#b3402e" stroke-dasharray="4"/><text x="278" y="160" font-size="14">91 steps</text>`),
		"keeper-house.svg":     scene("#dfe7e2", "#4b8195", `<path d="M120 220v-80h150v80z" fill="#f4f1ea" stroke="#23313d"/><path d="M108 142 195 86l88 56z" fill="#5d5a55"/><rect x="180" y="176" width="28" height="44" fill="#1f5a7a"/><rect x="244" y="84" width="16" height="34" fill="#7a4a2a"/>`),
		"rope.svg":             svg(420, 280, `<rect width="420" height="280" fill="#fbf8f0"/><path d="M60 200c80-160 120 60 180-20s-90-110-40-30 120 70 170-30" fill="none" stroke="#b08d57" stroke-width="14"/>`),
		"paint.svg":            svg(420, 280, `<rect width="420" height="280" fill="#eef3f5"/><rect x="150" y="120" width="110" height="110" fill="#b3402e"/><path d="M150 120q55 30 110 0" fill="#d8604d"/><path d="M230 130 320 40" stroke="#7a4a2a" stroke-width="12"/>`),
		"book.svg":             svg(420, 280, `<rect width="420" height="280" fill="#efe9dc"/><path d="M70 70q70-20 140 10v160q-70-30-140-10zM350 70q-70-20-140 10v160q70-30 140-10z" fill="#fffdf6" stroke="#23313d"/>`+pages),
		"horn.svg":             svg(420, 280, `<rect width="420" height="280" fill="#e4e9ea"/><path d="M90 130h120l110-60v150l-110-60H90z" fill="#c08a2d" stroke="#23313d"/><path d="M340 110q30 35 0 70M362 96q44 50 0 98" fill="none" stroke="#23313d" stroke-width="4"/>`),
		"jar.svg":              svg(420, 280, `<rect width="420" height="280" fill="#f3efe4"/><path d="M160 80h100v20q24 10 24 40v80q0 20-20 20H156q-20 0-20-20v-80q0-30 24-40z" fill="#d5e6ea" stroke="#23313d"/><rect x="136" y="176" width="148" height="60" fill="#e3b23c"/>`),
		"tern.svg":             scene("#e6eff2", "#7fa8b6", `<path d="M80 130q60-60 130-8 70-60 140-14-70-4-120 40-40 26-70 0Q130 120 80 130z" fill="#fff" stroke="#23313d"/><circle cx="206" cy="124" r="9" fill="#23313d"/><path d="M214 128 240 140l-28-4z" fill="#b3402e"/>`),
		"map.svg":              svg(420, 280, `<rect width="420" height="280" fill="#d3e6ea"/><path d="M0 0h130q30 90-20 150T60 280H0z" fill="#e8e0c8" stroke="#8a8577"/><path d="M300 110q40-20 50 20t-30 40-50-20 30-40z" fill="#5d5a55"/><path d="M116 140 300 140" stroke="#b3402e" stroke-width="4" stroke-dasharray="10 6"/>`),
		"badge.svg":            svg(120, 120, `<circle cx="60" cy="60" r="54" fill="#1f5a7a" stroke="#e3b23c" stroke-width="6"/><path d="M50 94 54 44h12l4 50z" fill="#f4f1ea"/><rect x="53" y="32" width="14" height="12" fill="#e3b23c"/>`),
		"worksheet.svg":        svg(420, 280, `<rect width="420" height="280" fill="#fff"/><text x="30" y="50" font-size="20">How many steps has the tower?</text><path d="M30 100h360M30 150h360M30 200h360" stroke="#8a8577"/>`),
		"tide-chart.svg":       curve,
		"badge.css":            ".badge img { width: 96px; }\n",
	}
}

func svg(w, h int, inner string) string {
	return fmt.Sprintf(`<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d">%s</svg>`, w, h, w, h, strings.TrimSpace(inner))
}
