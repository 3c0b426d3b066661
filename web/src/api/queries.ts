// The cache that all pages read from.
import { MutationCache, QueryCache, QueryClient } from '@tanstack/react-query'
import { Problem } from './client'
import { connection } from './connection'

const heard = (error: Error) => {
  if (error instanceof Problem && error.loggedOut) connection.expired()
}

export const queries = new QueryClient({
  queryCache: new QueryCache({ onError: (error, query) => { if (query.queryKey[0] !== 'me' || query.state.data) heard(error) } }),
  mutationCache: new MutationCache({ onError: (error, _input, _context, mutation) => { if (mutation.options.mutationKey?.[0] !== 'login') heard(error) } }),
  defaultOptions: { queries: { retry: (n, e) => n < 2 && !(e instanceof Problem), staleTime: 2_000 } },
})

connection.onBack(() => void queries.invalidateQueries())
