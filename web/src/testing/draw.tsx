// What tests of parts draw them in: a cache of their own, and an address.
import { i18n } from '@lingui/core'
import { I18nProvider } from '@lingui/react'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { cleanup, render } from '@testing-library/react'
import type { ReactNode } from 'react'
import { MemoryRouter } from 'react-router'
import { afterEach } from 'vitest'
import { drafts } from '../lib/drafts'

afterEach(() => {
  cleanup()
  drafts.clear()
  sessionStorage.clear()
  localStorage.clear()
})

export function draw(part: ReactNode, at = '/') {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } })
  return render(
    <I18nProvider i18n={i18n}>
      <QueryClientProvider client={queries}><MemoryRouter initialEntries={[at]}>{part}</MemoryRouter></QueryClientProvider>
    </I18nProvider>,
  )
}

/** Nothing has a size where nothing is drawn: from here on, lists are as high as ten rows. */
export function withHeight() {
  Object.defineProperty(HTMLElement.prototype, 'clientHeight', { configurable: true, get: () => 320 })
  Object.defineProperty(HTMLElement.prototype, 'clientWidth', { configurable: true, get: () => 800 })
}
