import { readFileSync } from 'node:fs'
import vue from '@vitejs/plugin-vue'
import { defineConfig, type Plugin } from 'vite'

/** Takes from the pictures of icons what they all have, so that scripts with many of them stay small. */
const bareIcons: Plugin = {
  name: 'bare-icons',
  enforce: 'pre',
  load(id) {
    const [file, query] = id.split('?')
    if (query !== 'raw' || !file?.endsWith('.svg')) return null
    const bare = readFileSync(file, 'utf8')
      .replace(/<!--.*?-->/gs, '')
      .replace(/ class="[^"]*"/, '')
      .replace(/\s+/g, ' ')
      .replace(/> </g, '><')
      .trim()
    return `export default ${JSON.stringify(bare)}`
  },
}

// What components of PrimeVue that the console uses say in words of PrimeVue.
const wordsUsed = /^(accept|reject|close|(empty|search|selection)\w*Message)$/

/** Takes from PrimeVue the palettes, kinds of buttons and words that the console does not use. */
const smallPrime: Plugin = {
  name: 'small-prime',
  transform(code, id) {
    if (id.endsWith('/aura/base/index.mjs')) {
      const unused = 'lime|amber|teal|indigo|violet|fuchsia|pink|rose|gray|neutral|stone'
      return code.replace(new RegExp(`\\b(${unused}):\\{[^}]*\\},?`, 'g'), '')
    }
    if (id.endsWith('/styles/dist/button/index.mjs')) {
      return code.replace(/\.p-button-(outlined\.|text\.)?(p-button-)?(help|contrast|plain|info)\b[^{}]*\{[^}]*\}/g, '')
    }
    if (id.endsWith('/core/config/index.mjs')) {
      const word = /^ +(\w+): (?:'[^']*'|\[[^\]]*\]|\d+|true|false),?\n/gm
      return code
        .replace(/(?<=\blocale: \{)[^]*?(?=filterMatchModeOptions)/, (all) =>
          all.replace(word, (line: string, name: string) => (wordsUsed.test(name) ? line : '')),
        )
        .replace(/\[FilterMatchMode\.[^\]]*\]/g, '[]')
    }
    return null
  },
}

export default defineConfig({
  plugins: [
    bareIcons,
    smallPrime,
    vue({ template: { compilerOptions: { isCustomElement: (tag) => tag === 'idle-map' } } }),
  ],
  build: {
    outDir: '../dist',
    cssTarget: ['chrome123', 'firefox120', 'safari17.5'], // know light-dark(), which follows the theme that is chosen
    modulePreload: { polyfill: false }, // they all know it
    emptyOutDir: true, // public/.gitkeep puts the mark back that keeps the directory
    assetsInlineLimit: (file) => (file.endsWith('.json') ? false : undefined),
    chunkSizeWarningLimit: 700,
    // What the map page needs at first is in few scripts: in many, each compressed by itself, it is larger.
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            {
              name: 'calls',
              test: /console\/src\/(api\/(live|layers|view|selection|items|numbers|service|explain)|text)/,
            },
            {
              name: 'parts',
              test: new RegExp(
                [
                  '@primeuix/(styled|utils)',
                  '@primevue/(core|icons/(spinner|baseicon))',
                  'primevue/(base|basecomponent|button|badge|ripple|inputtext|toggleswitch)/',
                  'primevue/(baseinput|baseeditableholder)/',
                  '@primeuix/styles/dist/(base|button|badge|ripple|inputtext|toggleswitch)/',
                ].join('|'),
              ),
            },
          ],
        },
      },
    },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
