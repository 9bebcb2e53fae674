package fingerprint_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"orilla.example/orilla/internal/core/fingerprint"
)

// outputs are lists of files as build tools leave them. What begins with a plus
// must be found, everything else must not.
var outputs = map[string]string{
	"Rollup, with React": `
		+assets/Page1-BDuPbRhR.js assets/Page1-BDuPbRhR.js.map +assets/Page2-Ca3jEoVB.js +assets/Page3-qbqChDYx.js
		+assets/Page4-DSojwwyk.js +assets/Page5-dOH7IJyk.js +assets/Page6-tdkhYTKL.js +assets/Page7-kiGSw_4t.js
		+assets/Page8-DJ4u4WgN.js +assets/index-4-jA9vrI.css +assets/index-DL65rIRg.css +assets/logo-CtnmgatB.svg
		+assets/tides-Bq7-xK2_.json +assets/hero-D0pR_s8z.mp4 index.html vite.svg favicon.ico robots.txt`,
	"Rollup, with Vue": `
		+assets/Page1-Dlw8w6Vy.css +assets/Page1-jZ8FC9Wa.js +assets/Page2-M7LGTcDb.js +assets/Page3-BJ8-YyQt.css
		+assets/Page4-D-2DJSH_.js +assets/Page5-BFPNd1dl.css +assets/Page6-CCJ_YSDg.js +assets/index-BGDuBagX.js index.html`,
	"webpack": `
		+045f01e432b56b7e5bd4.svg +css/main.3bc43027fb8ff3529573.css css/main.3bc43027fb8ff3529573.css.map
		+js/112.e34c37dc.chunk.js js/112.e34c37dc.chunk.js.map +js/197.ed9fa66a.chunk.js +js/267.ebee6081.chunk.js
		+js/303.63840313.chunk.js +js/498.ae4120b8.chunk.js +js/68.47d521f1.chunk.js +js/769.6730feef.chunk.js
		+js/main.1a3af3fd6f6a676f2e9a.js js/main.1a3af3fd6f6a676f2e9a.js.LICENSE.txt
		+static/media/logo.6ce24c58023cc2f8fd88fe9d219db6c6.svg asset-manifest.json manifest.json index.html`,
	"esbuild": `
		+Page1-UMJC5TSH.js Page1-UMJC5TSH.js.map +Page2-MDU5URCX.js +Page3-AS3XDW2Z.js +Page4-2UNF6OQE.js
		+Page5-33XNE5NI.js +chunk-HHREF6NB.js +chunk-QFRHZIVE.js +logo-YAX5ZVY7.svg +main-VD4XOTCE.css
		+media/roboto-latin-400-normal-YEDDNZ7W.woff2
		+media/roboto-latin-400-normal-7R5AUIYP.woff favicon.ico index.html ngsw.json`,
	"Rspack": `
		+static/css/index.33e8c800d9.css +static/js/async/2.027f97ef2b.js +static/js/async/7.6e4cc6b57a.js
		+static/js/async/p.1232a2b4f2.js +static/js/lib-react.21d27468a3.js static/js/lib-react.21d27468a3.js.LICENSE.txt
		+static/js/index.d2f7000cde.js +static/svg/logo.c02fdcd71f.svg index.html favicon.png`,
	"Svelte": `
		+_app/immutable/assets/4.BpWvya-3.css +_app/immutable/chunks/Bjy-W4x2.js +_app/immutable/chunks/xihTtKlq.js
		+_app/immutable/entry/app.DvMz4Fin.js +_app/immutable/nodes/0.DSAVuPTv.js _app/version.json fares.html index.html`,
	"a static export of a server framework": `
		+_next/static/CdB1B6FL_VVKJvcKJEb1O/_buildManifest.js +_next/static/CdB1B6FL_VVKJvcKJEb1O/_ssgManifest.js
		+_next/static/chunks/0cz1d0mv5g_q7.js +_next/static/chunks/1wnov70f88xjy.js +_next/static/chunks/2q3lvrtex5j0r.css
		+_next/static/chunks/310vm2bl3xxpt.js +_next/static/chunks/39_j1bdzreq0m.js +_next/static/chunks/3qfy96eoyh-ek.js
		+_next/static/chunks/turbopack-2u1d16houkiyo.js +_next/static/media/e4af272ccee01ff0-s.p.woff2
		__next._tree.txt pier/__next._full.txt 404.html fares.html fares.txt index.html next.svg`,
	"the same, by webpack": `
		+_next/static/chunks/app/layout-8c3f0ed5f4c4a9e7.js +_next/static/chunks/framework-f66176bb897dc684.js
		+_next/static/chunks/polyfills-42372ed130431b0a.js +_next/static/css/0d3b9a1f2c4e5d6f.css
		+_next/static/media/ferry.1a2b3c4d.png _next/data/x/fares.json index.html`,
	"a documentation generator": `
		+assets/app.DEKfSKWO.js +assets/chunks/framework.B1q8Oer0.js +assets/chunks/theme.DnAZZl47.js
		+assets/fares.md.XrNvFhYU.js +assets/fares.md.XrNvFhYU.lean.js +assets/index.md.DYnTO-D9.lean.js
		+assets/inter-italic-cyrillic.By2_1cv3.woff2 +assets/inter-italic-latin-ext.CN1xVJS-.woff2
		+assets/style.DFTx90Kk.css 404.html fares.html hashmap.json vp-icons.css`,
	"another one": `
		+assets/js/935f2afb.8a6f5a6d.js +assets/js/main.3f9a1c2b.js +assets/js/runtime~main.5d6e7f80.js
		+assets/css/styles.0d3b9a1f.css +assets/images/pier-6ce24c58023cc2f8fd88fe9d219db6c6.png index.html img/logo.svg`,
	"in Python": `
		+assets/javascripts/bundle.56dfad97.min.js assets/javascripts/bundle.56dfad97.min.js.map
		+assets/javascripts/workers/search.b8dbb3d2.min.js +assets/stylesheets/main.35f28582.min.css
		assets/images/favicon.png assets/javascripts/lunr/min/lunr.stemmer.support.min.js search/search_index.json`,
	"Parcel": `
		+Page1.263c62e4.js Page1.263c62e4.js.map +Page2.e0c5a6ca.js +Page3.32f30a05.js +Page5.8fe80605.js +Page6.afadd055.js
		+Page7.921a56e0.js +Page8.09d8be35.js +corvane.299a0b79.css +corvane.eda7e575.js +logo.a3721c59.svg index.html`,
	"pictures in several sizes": `
		+ferries/zDYJzhGJOc-300.jpeg +ferries/zDYJzhGJOc-600.jpeg ferries/pier-sula1-300.jpg ferries/pier-sula1-600.jpg
		+img/xHf-_Q2sJ1-300.webp +img/xHf-_Q2sJ1-600.webp +img/xHf-_Q2sJ1-600.jpeg index.html css/site.css`,
	"pictures made by Hugo": `
		+piers/sula_hu_3f9a1c2b4d5e6f7a.jpg +piers/sula_hu3f9a8c7b6a5f4e3d2c1b0a9f8e7d6c5b_48213_300x0_resize_q75_box.jpg
		+css/main.min.0d3b9a1f2c4e5d6f7a8b9c0d1e2f3a4b5c6d7e8f9a0b1c2d3e4f5a6b7c8d9e0f.css piers/sula.jpg index.xml index.html`,
	"Bun": `
		+Page1-hn2axrdn.js Page2-kdzghnga.js +Page3-6x8dhcxx.js +Page4-adx8e631.js +Page5-zea7gf3v.js +Page6-menvke7d.js
		+Page7-yhsrb4a8.js +Page8-kwwtcz5c.js +main-qm1qd8q9.css +main-qvjc2s1g.js index.html`,
	"islands": `
		+_astro/about.CX3f_s1b.css +_astro/index.astro_astro_type_script_index_0_lang.Bq3dF_9x.js +_astro/other.Dk2uR5-f.js
		+_astro/ferry.B4x_9kQz_Z1abcdE.webp +_astro/ferry.C6SJQRwo_Z1UUlPe.webp +_astro/other.uWxgP4It.js
		+_astro/about.DaML0OJo.css index.html about/index.html`,
	"data beside long digests": `
		+static/js/main.1a3af3fd6f6a676f2e9a.js +static/js/tides.045f01e432b56b7e5bd4.json
		data/3bc43027fb8ff3529573.json reports/winter-045f01e432b56b7e5bd4.pdf`,
	"a small application, one of whose digests is in capitals": `
		+assets/index-BDXF774W.css +assets/index-DOC4IKhm.js assets/index-DOC4IKhm.js.map index.html
		lib/vendor-MODEL3xL.js old/index-DOC4IKhm.js old/jquery-3.7.1.js other/vendor-jquery3x.js other/style-overview.css
		third/index-DOC4IKhm.js third/theme-dark2024.css`,
	"plain names": `
		app.js app.css style-overview.css vendor-polyfill.js jquery-3.7.1.min.js jquery.lazyload.js jquery.lazyLoad.js
		bootstrap5-overview.css bootstrap-5.3.0.min.css font-awesome.css Inter-roman.var.woff2 js/dataTables.bootstrap5.js
		holiday-IMG_20240612.jpg IMG_1234.JPG DSC01234.jpg P1010432.JPG photo-2024dec31.png report-2024q3.pdf case-iPhone15.jpg
		tesla-MODEL3XL.png house-facade01.jpg chart-covid2020.js map-20261128.png web2print3d.js mp4Player.js h264video.js
		avatar-550e8400-e29b-41d4-a716-446655440000.jpg chair-b2x4c9d1.jpg brochure-4x4Truck.jpg 3f9a1c2b.jpg
		fares-3f9a1c2b7e.html feed-3f9a1c2b7e.xml timetable-3f9a1c2b7e.pdf tides-3f9a1c2b7e.json sw-3f9a1c2b7e.js
		service-worker-3f9a1c2b7e.js deadbeef.js facade12-banner.css releases/3f9a2c1b7e/notes.txt OVERVIEW.js LICENSE-3f9a1c2b7e
		README-OVERVIEW.css site-v2-draft3.css sula-2026-11-28.png`,
	"plain names in a bundler's folder": `
		+assets/app-BDuPbRhR.js +assets/Page2-Ca3jEoVB.js +assets/Page7-kiGSw_4t.js assets/vendor-polyfill.js assets/legacy-overview.css
		assets/jquery.lazyload.js assets/photo-IMG_1234.jpg assets/fares-2026-11.json assets/timetable-winter26.pdf`,
	"plain names beside one bundle": `
		+js/app.DfR3_x1a.js js/jquery.lazyLoad.js js/jquery.dropDown.js js/jquery.treeView.js`,
}

// TestOutputsOfBuildTools has names as build tools write them, most of them taken
// from real outputs and some made after their documented forms, and names that
// people write.
func TestOutputsOfBuildTools(t *testing.T) {
	t.Parallel()
	for name, text := range outputs {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var paths, want []string
			for _, path := range strings.Fields(text) {
				path, hashed := strings.CutPrefix(path, "+")
				paths = append(paths, path)
				if hashed {
					want = append(want, path)
					assert.True(t, fingerprint.Possible(path), "%s might be kept", path)
				}
			}
			slices.Sort(want)
			assert.Equal(t, want, fingerprint.List(paths, nil, nil))
			slices.Reverse(paths)
			assert.Equal(t, want, fingerprint.List(paths, nil, nil), "in any order")
		})
	}
}

// TestTheSitesOwnWord lets globs decide, plain last.
func TestTheSitesOwnWord(t *testing.T) {
	t.Parallel()
	paths := []string{"js/app-1.js", "js/app-1.js.map", "js/plain.js", "css/app.DfR3_x1a.css", "css/other.Dk2uR5-f.css", "index.html"}
	assert.Equal(t, []string{"css/other.Dk2uR5-f.css", "js/app-1.js"},
		fingerprint.List(paths, []string{"js/*-*", "css/app*"}, []string{"css/app.*"}))
}

// FuzzList makes sure that whatever files are called, the list is a part of them,
// without pages, and depends on nothing but what they are called.
func FuzzList(f *testing.F) {
	for _, text := range outputs {
		f.Add(strings.ReplaceAll(text, "+", ""))
	}
	f.Add(".min.png a/.chunk.js -.js ..map @2x.png 12345678.png -12345678x1.png")
	f.Fuzz(func(t *testing.T, text string) {
		paths := strings.Fields(text)
		list := fingerprint.List(paths, nil, nil)
		for _, path := range list {
			if !slices.Contains(paths, path) || !fingerprint.Possible(path) || strings.HasSuffix(path, ".html") {
				t.Fatalf("%q of %q", path, paths)
			}
		}
		slices.Reverse(paths)
		if again := fingerprint.List(paths, nil, nil); !slices.Equal(list, again) {
			t.Fatalf("%q, and in another order %q", list, again)
		}
	})
}

// BenchmarkList tells what the recognition costs for each file of a large site.
func BenchmarkList(b *testing.B) {
	var paths []string
	for name, text := range outputs {
		for _, path := range strings.Fields(strings.ReplaceAll(text, "+", "")) {
			paths = append(paths, name+"/"+path)
		}
	}
	for b.Loop() {
		fingerprint.List(paths, nil, nil)
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N*len(paths)), "ns/file")
}
