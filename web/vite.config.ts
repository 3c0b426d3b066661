import { lingui } from '@lingui/vite-plugin'
import babel from '@rolldown/plugin-babel'
import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { brotliCompressSync, constants, gzipSync } from 'node:zlib'
import type { Plugin } from 'vite'
import { defineConfig } from 'vitest/config'

/** Packs what was built, once: the service sends it as it lies there. */
function packed(): Plugin {
  const pack = (dir: string) => {
    for (const name of readdirSync(dir)) {
      const file = join(dir, name)
      if (statSync(file).isDirectory()) pack(file)
      else if (/\.(js|css|svg)$/.test(name)) {
        const text = readFileSync(file)
        writeFileSync(`${file}.gz`, gzipSync(text, { level: 9 }))
        writeFileSync(`${file}.br`, brotliCompressSync(text, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }))
      }
    }
  }
  return { name: 'packed', apply: 'build', closeBundle: () => pack('dist') }
}

export default defineConfig({
  plugins: [react(), babel({ plugins: ['@lingui/babel-plugin-lingui-macro'] }), lingui(), tailwindcss(), packed()],
  build: { emptyOutDir: true, assetsInlineLimit: 0 }, // the policy for content allows no fonts inside of style sheets
  test: { setupFiles: 'src/testing/language.ts' },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
