// Data of the pages: one hook for each thing that is shown, one for each thing that is done.
import { keepPreviousData, useInfiniteQuery, useMutation, useQueries, useQuery, useQueryClient, type QueryClient } from '@tanstack/react-query'
import { drafts } from '../lib/drafts'
import { body, http, type Run, type Schemas } from './client'
import { connection } from './connection'
import type { paths } from './schema'

type SiteQuery = NonNullable<paths['/sites']['get']['parameters']['query']>
type ClientQuery = NonNullable<paths['/clients']['get']['parameters']['query']>
type RunQuery = NonNullable<paths['/runs']['get']['parameters']['query']>

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => body(http.GET('/me')), retry: false, staleTime: 60_000 })
export const useToday = () => useQuery({ queryKey: ['today'], queryFn: () => body(http.GET('/today')) })
export const useSample = () => useQuery({ queryKey: ['sample'], queryFn: () => body(http.GET('/sample')) })
export const useTakeSample = () => useDo((_: void) => body(http.POST('/sample')))
export const useHosts = (enabled = true) => useQuery({ queryKey: ['hosts'], enabled, queryFn: () => body(http.GET('/hosts')) })
export const useSources = (enabled = true) => useQuery({ queryKey: ['sources'], enabled, queryFn: () => body(http.GET('/sources')) })
export const useSource = (name: string, enabled = true) =>
  useQuery({ queryKey: ['sources', name], enabled, queryFn: () => body(http.GET('/sources/{name}', { params: { path: { name } } })) })
export const useStarters = (enabled = true) => useQuery({ queryKey: ['starters'], enabled, queryFn: () => body(http.GET('/starters')) })
export const useStarter = (name: string) =>
  useQuery({ queryKey: ['starters', name], queryFn: () => body(http.GET('/starters/{name}', { params: { path: { name } } })) })
export const usePacking = (name: string) =>
  useQuery({ queryKey: ['starters', name, 'packing'], queryFn: () => body(http.GET('/starters/{name}/packing', { params: { path: { name } } })) })
/** The fields of starters, by their keys. */
export const useFieldsByKey = (starters: string[]): Partial<Record<string, Schemas['Field']>> =>
  useQueries({
    queries: starters.map((name) => ({ queryKey: ['starters', name, 'packing'], queryFn: () => body(http.GET('/starters/{name}/packing', { params: { path: { name } } })) })),
    combine: (all) => Object.fromEntries(all.flatMap((p) => (p.data?.list.fields ?? []).map((f) => [f.key, f]))),
  })
export const useReleases = (starter?: string) =>
  useQuery({ queryKey: ['releases', 'of', starter ?? ''], queryFn: () => body(http.GET('/releases', { params: { query: { starter } } })) })
export const useRelease = (ref: string, enabled = true) =>
  useQuery({ queryKey: ['releases', ref], enabled, queryFn: () => body(http.GET('/releases/{ref}', { params: { path: { ref } } })) })
export const useContents = (ref: string, path: string, find: string, enabled = true) =>
  useQuery({
    queryKey: ['releases', ref, 'contents', path, find], enabled, placeholderData: find ? keepPreviousData : undefined, staleTime: Infinity,
    queryFn: () => body(http.GET('/releases/{ref}/contents', { params: { path: { ref }, query: !find ? { path, limit: 1000 } : /[*?[{\\]/.test(find) ? { find, limit: 300 } : { words: find, limit: 300 } } })),
  })
export const useMap = (ref: string, path: string) =>
  useQuery({
    queryKey: ['releases', ref, 'map', path], staleTime: Infinity, placeholderData: keepPreviousData,
    queryFn: () => body(http.GET('/releases/{ref}/map', { params: { path: { ref }, query: { path, depth: 3 } } })),
  })
/** One page of clients, as for choosing one by a part of its name. */
export const useClientPage = (query: ClientQuery, enabled = true) =>
  useQuery({
    queryKey: ['clients', 'page', query], enabled, placeholderData: keepPreviousData,
    queryFn: () => body(http.GET('/clients', { params: { query } })),
  })
/** All clients that a search finds, page by page. */
export const useClients = (query: ClientQuery, enabled = true) =>
  useInfiniteQuery({
    queryKey: ['clients', 'all', query], enabled, initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => body(http.GET('/clients', { params: { query: { ...query, cursor: pageParam || undefined } } })),
    getNextPageParam: (last) => last.next || undefined,
  })
/** The fields of a starter; none where no starter is chosen. */
export const useFields = (starter: string) =>
  useQuery({
    queryKey: ['starters', starter, 'packing'], enabled: starter !== '', select: (p: Schemas['Packing']) => p.list.fields ?? [],
    queryFn: () => body(http.GET('/starters/{name}/packing', { params: { path: { name: starter } } })),
  })
export const useTableRows = (ref: string, table: string) =>
  useQuery({
    queryKey: ['releases', ref, 'rows', table], staleTime: Infinity, retry: false,
    queryFn: () => body(http.GET('/releases/{ref}/rows', { params: { path: { ref }, query: { table } } })),
  })
export const useClient = (name: string) =>
  useQuery({ queryKey: ['clients', name], queryFn: () => body(http.GET('/clients/{name}', { params: { path: { name } } })) })
/** One page of sites. */
export const useSitePage = (query: SiteQuery, enabled = true) =>
  useQuery({
    queryKey: ['sites', 'page', query], enabled, placeholderData: keepPreviousData,
    queryFn: () => body(http.GET('/sites', { params: { query } })),
  })
/** All sites that a filter lets through, page by page. */
export const useSites = (query: SiteQuery) =>
  useInfiniteQuery({
    queryKey: ['sites', 'all', query], initialPageParam: '', placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => body(http.GET('/sites', { params: { query: { ...query, cursor: pageParam || undefined } } })),
    getNextPageParam: (last) => last.next || undefined,
  })
export const useInstalls = () => useQuery({ queryKey: ['installs'], queryFn: () => body(http.GET('/installs')) })
export const useInstall = (name: string) => useQuery({ queryKey: ['installs', name], queryFn: () => body(http.GET('/installs/{name}', { params: { path: { name } } })) })
export const useAddInstall = () => useDo((install: Schemas['NewInstall']) => body(http.POST('/installs', { body: install })))
export const useRemoveInstall = () => useDo((name: string) => body(http.DELETE('/installs/{name}', { params: { path: { name } } })))
/** What bringing all sites of an install to the code of a release would do, or, for none, bringing them back to what they had. */
export const useInstallPlan = (name: string, to: string, wanted: boolean) =>
  useQuery({ queryKey: ['installs', name, 'plan', to], enabled: wanted, retry: false, gcTime: 0, queryFn: () => body(http.POST(to ? '/installs/{name}/refresh/plan' : '/installs/{name}/undo/plan', { params: { path: { name } }, body: { to: to || undefined } })) })
export const useInstallMove = () => useDo(({ name, to, mark }: { name: string; to: string; mark?: string }) => body(http.POST(to ? '/installs/{name}/refresh' : '/installs/{name}/undo', { params: { path: { name } }, body: { to: to || undefined, mark } })))
export const useKinds = (enabled = true) => useQuery({ queryKey: ['kinds'], enabled, queryFn: () => body(http.GET('/kinds')) })
export const useSite = (name: string) =>
  useQuery({ queryKey: ['sites', name], queryFn: () => body(http.GET('/sites/{name}', { params: { path: { name } } })) })
export const useRuns = (query: RunQuery) =>
  useInfiniteQuery({
    queryKey: ['runs', 'all', query], initialPageParam: 0, placeholderData: keepPreviousData,
    queryFn: ({ pageParam }) => body(http.GET('/runs', { params: { query: { limit: 100, ...query, before: pageParam || undefined } } })),
    getNextPageParam: (last) => (last.length === (query.limit ?? 100) ? last.at(-1)?.id : undefined),
  })
export const useRun = (id: number) =>
  useQuery({ queryKey: ['runs', id], queryFn: () => body(http.GET('/runs/{id}', { params: { path: { id } } })) })
export const useLog = (id: number, version: unknown) =>
  useQuery({ queryKey: ['runs', id, 'log', version], queryFn: () => body(http.GET('/runs/{id}/log', { params: { path: { id } } })), placeholderData: keepPreviousData })
/** The steps that a run has before it; asked anew with each step that it begins. */
export const useAhead = (id: number, step: number, over: boolean) =>
  useQuery({ queryKey: ['runs', id, 'ahead', step], enabled: !over, queryFn: () => body(http.GET('/runs/{id}/ahead', { params: { path: { id } } })), placeholderData: keepPreviousData })
export const useVault = () => useQuery({ queryKey: ['vault'], queryFn: () => body(http.GET('/vault')) })
export const useAudit = () => useQuery({ queryKey: ['audit'], queryFn: () => body(http.GET('/audit')) })

export const usePlan = (site: Schemas['NewSite'] | null) =>
  useQuery({
    queryKey: ['plan', site], enabled: site !== null, retry: false, gcTime: 0, placeholderData: keepPreviousData,
    queryFn: () => body(http.POST('/sites/plan', { body: site! })),
  })

/** Does something that changes records, then has everything that is shown read again. */
export function useDo<I, O>(run: (input: I) => Promise<O>) {
  const queries = useQueryClient()
  return useMutation<O, Error, I>({ mutationFn: run, onSettled: () => queries.invalidateQueries() })
}

/**
 * What was asked before is asked again only when it has worked: else the page would be drawn again, without the reason. When it is somebody
 * else who logs in, nothing stays of what the one before was shown and typed.
 */
export function useLogin() {
  const queries = useQueryClient()
  return useMutation<unknown, Error, Schemas['Credentials']>({
    mutationKey: ['login'], mutationFn: (c) => body(http.POST('/login', { body: c })),
    onSuccess: (_, c) => {
      const before = queries.getQueryData<Schemas['Me']>(['me'])
      if (before && before.name !== c.name) leave(queries)
      connection.loggedIn()
      return queries.invalidateQueries()
    },
  })
}

function leave(queries: QueryClient) {
  drafts.clear()
  queries.clear()
  location.assign('/')
}

/** Logged out is logged out: nothing that was shown or typed stays in the browser. */
export function useLogout() {
  const queries = useQueryClient()
  return useMutation({
    mutationFn: () => body(http.POST('/logout')),
    onSuccess: () => {
      connection.loggedIn()
      leave(queries)
    },
  })
}
export const useHost = (name: string) =>
  useQuery({ queryKey: ['hosts', name], queryFn: () => body(http.GET('/hosts/{name}', { params: { path: { name } } })) })
export const useFolders = (host: string, path: string, enabled: boolean) =>
  useQuery({
    queryKey: ['hosts', host, 'folders', path], enabled, retry: false, staleTime: 30_000,
    queryFn: () => body(http.GET('/hosts/{name}/folders', { params: { path: { name: host }, query: { path } } })),
  })
export const useRemoveHost = () => useDo((name: string) => body(http.DELETE('/hosts/{name}', { params: { path: { name } } })))
export const useKind = (name: string) =>
  useQuery({ queryKey: ['kinds', name], queryFn: () => body(http.GET('/kinds/{name}', { params: { path: { name } } })) })
export const useCheckKind = () => useMutation<Schemas['Kind'], Error, string>({ mutationFn: (definition) => body(http.POST('/kinds/check', { body: { definition } })) })
export const useAddKind = () => useDo((definition: string) => body(http.POST('/kinds', { body: { definition } })))
export const useDraftKind = () => useMutation<Schemas['KindDraft'], Error, Schemas['NewDraft']>({ mutationFn: (d) => body(http.POST('/kinds/draft', { body: d })) })
export const useRemoveKind = () => useDo((name: string) => body(http.DELETE('/kinds/{name}', { params: { path: { name } } })))
export const useAgency = () => useQuery({ queryKey: ['agency'], queryFn: () => body(http.GET('/agency')) })
export const useSetAgency = () => useDo((a: Schemas['NewAgency']) => body(http.PUT('/agency', { body: a })))
export const useUsers = () => useQuery({ queryKey: ['users'], queryFn: () => body(http.GET('/users')) })
export const useTokens = () => useQuery({ queryKey: ['tokens'], queryFn: () => body(http.GET('/tokens')) })
export const useAddUser = () => useDo((u: Schemas['NewUser']) => body(http.POST('/users', { body: u })))
export const useRemoveUser = () => useDo((name: string) => body(http.DELETE('/users/{name}', { params: { path: { name } } })))
export const useSetPassword = () =>
  useDo(({ name, ...p }: Schemas['NewPassword'] & { name: string }) => body(http.PUT('/users/{name}/password', { params: { path: { name } }, body: p })))
export const useAddToken = () => useDo((t: Schemas['NewToken']) => body(http.POST('/tokens', { body: t })))
export const useRemoveToken = () => useDo((name: string) => body(http.DELETE('/tokens/{name}', { params: { path: { name } } })))
export const useAcceptCheck = () =>
  useDo(({ site, ...a }: Schemas['Accept'] & { site: string }) => body(http.PUT('/sites/{name}/accepted', { params: { path: { name: site } }, body: a })))
export const useUnacceptCheck = () =>
  useDo(({ site, what }: { site: string; what: string }) => body(http.DELETE('/sites/{name}/accepted', { params: { path: { name: site }, query: { what } } })))
export const useAcceptFinding = () =>
  useDo(({ source, ...a }: Schemas['Accept'] & { source: string }) => body(http.PUT('/sources/{name}/accepted', { params: { path: { name: source } }, body: a })))
export const useUnacceptFinding = () =>
  useDo(({ source, what, where }: { source: string; what: string; where: string }) =>
    body(http.DELETE('/sources/{name}/accepted', { params: { path: { name: source }, query: { what, where } } })))
export const useRemoveSource = () => useDo((name: string) => body(http.DELETE('/sources/{name}', { params: { path: { name } } })))
export const useCheckSource = () => useDo((name: string) => body(http.POST('/sources/{name}/check', { params: { path: { name } } })))
export const useRemoveStarter = () => useDo((name: string) => body(http.DELETE('/starters/{name}', { params: { path: { name } } })))
export const useRemoveClient = () => useDo((name: string) => body(http.DELETE('/clients/{name}', { params: { path: { name } } })))
export const useRotateKey = () => useDo(() => body(http.POST('/vault/rotate-key')))
export const useAddHost = () => useDo((h: Schemas['NewHost']) => body(http.POST('/hosts', { body: h })))
export const useChangeHost = () => useDo(({ name, ...h }: Schemas['ChangedHost'] & { name: string }) => body(http.PATCH('/hosts/{name}', { params: { path: { name } }, body: h })))
export const useTestHost = () => useDo((name: string) => body(http.POST('/hosts/{name}/test', { params: { path: { name } } })))
export const useAskDNS = () => useDo(({ site, nameServers }: { site: string; nameServers: string[] }) => body(http.POST('/sites/{name}/dns', { params: { path: { name: site }, query: { name_servers: nameServers } } })))
export const useAddSource = () => useDo((s: Schemas['NewSource']) => body(http.POST('/sources', { body: s })))
export const useChangeSource = () => useDo(({ name, ...s }: Schemas['ChangedSource'] & { name: string }) => body(http.PATCH('/sources/{name}', { params: { path: { name } }, body: s })))
export const useSurvey = () => useDo((name: string) => body(http.POST('/sources/{name}/survey', { params: { path: { name } } })))
export const useCreateStarter = () => useDo((s: Schemas['NewStarter']) => body(http.POST('/starters', { body: s })))
export const useChangeStarter = () => useDo(({ name, source }: { name: string; source: string }) => body(http.PATCH('/starters/{name}', { params: { path: { name } }, body: { source } })))
export const useBuild = () =>
  useDo(({ name, note, full }: { name: string; note: string; full: boolean }) => body(http.POST('/starters/{name}/releases', { params: { path: { name } }, body: { note, full } })))
/** An edit of a packing list that is not kept: its text and totals. */
export const useEditDraft = () =>
  useMutation<Schemas['Packing'], Error, Schemas['TriedList'] & { name: string }>({
    mutationFn: ({ name, ...tried }) => body(http.POST('/starters/{name}/packing/try', { params: { path: { name } }, body: tried })),
  })
export const usePackedLevel = (name: string, text: string, path: string, find: string, enabled = true) =>
  useQuery({
    queryKey: ['starters', name, 'level', text, path, find], enabled: enabled && text !== '', retry: false, gcTime: 60_000, placeholderData: keepPreviousData,
    queryFn: () => body(http.POST('/starters/{name}/packing/level', { params: { path: { name } }, body: { text, path: path || undefined, find: find || undefined } })),
  })
export const useTryPacking = (name: string, text: string | null) =>
  useQuery({
    queryKey: ['starters', name, 'try', text], enabled: text !== null, retry: false, gcTime: 0, placeholderData: keepPreviousData,
    queryFn: () => body(http.POST('/starters/{name}/packing/try', { params: { path: { name } }, body: { text: text! } })),
  })
export const useRetention = () =>
  useDo(({ name, last, weeks }: { name: string; last: number; weeks: number }) => body(http.PUT('/starters/{name}/retention', { params: { path: { name } }, body: { last, weeks } })))
export const useComparison = (id: number, done: boolean) =>
  useQuery({ queryKey: ['comparisons', id], enabled: done, staleTime: Infinity, queryFn: () => body(http.GET('/comparisons/{id}', { params: { path: { id } } })) })
export const useFileDifference = (ref: string, to: string, path: string) =>
  useQuery({ queryKey: ['releases', ref, 'difference', to, path], staleTime: Infinity, retry: false, queryFn: () => body(http.GET('/releases/{ref}/difference', { params: { path: { ref }, query: { to, path } } })) })
export const useCompare = () => useDo((c: Schemas['NewComparison']) => body(http.POST('/comparisons', { body: c })))
export const useDiscard = () => useDo((ref: string) => body(http.POST('/releases/{ref}/discard-archive', { params: { path: { ref } } })))
export const useImport = () =>
  useDo(({ name, what }: { name: string; what: Schemas['NewImport'] }) => body(http.POST('/starters/{name}/imports', { params: { path: { name } }, body: what })))
export const useCheckLink = () => useDo((link: string) => body(http.POST('/links/check', { body: { link } })))
export const useTick = () =>
  useDo(({ site, key, ...tick }: Schemas['Tick'] & { site: string; key: string }) =>
    body(http.PUT('/sites/{name}/tasks/{key}', { params: { path: { name: site, key } }, body: tick })))
export const useSetPacking = () =>
  useDo(({ name, text }: { name: string; text: string }) => body(http.PUT('/starters/{name}/packing', { params: { path: { name } }, body: { text } })))
/** Options and settings of a source that have the words, or the values inside one option. */
export const useSourceValues = (name: string, option: string, find: string, wanted: boolean) =>
  useQuery({
    queryKey: ['sources', name, 'values', option, find], enabled: wanted && name !== '', staleTime: 60_000, placeholderData: keepPreviousData,
    queryFn: () => body(http.GET('/sources/{name}/values', { params: { path: { name }, query: { option: option || undefined, find: find || undefined } } })),
  })
export const useEditPacking = () =>
  useDo(({ name, edit }: { name: string; edit: Schemas['ListEdit'] }) => body(http.POST('/starters/{name}/packing', { params: { path: { name } }, body: edit })))
export const useVerify = () => useDo((ref: string) => body(http.POST('/releases/{ref}/verify', { params: { path: { ref } } })))
export const useAddClient = () => useDo((c: Schemas['NewClient']) => body(http.POST('/clients', { body: c })))
export const useSetClient = () =>
  useDo(({ name, settings, secret }: { name: string; settings: Record<string, string>; secret?: string[] }) =>
    body(http.PATCH('/clients/{name}/settings', { params: { path: { name } }, body: { settings, secret } })))
export const useAddClientFile = () =>
  useDo(({ client, name, content }: { client: string; name: string; content: string }) =>
    body(http.POST('/clients/{name}/files', { params: { path: { name: client } }, body: { name, content } })))
export const useProvision = () => useDo((s: Schemas['NewSite']) => body(http.POST('/sites', { body: s })))
export const useCheck = () => useDo((name: string) => body(http.POST('/sites/{name}/check', { params: { path: { name } } })))
export const useFullCheck = () => useDo((name: string) => body(http.POST('/sites/{name}/check', { params: { path: { name }, query: { full: true } } })))
export const useUndoPlan = (name: string, wanted: boolean) =>
  useQuery({ queryKey: ['sites', name, 'undo'], enabled: wanted, gcTime: 0, queryFn: () => body(http.GET('/sites/{name}/undo', { params: { path: { name } } })) })
export const useUndo = () => useDo(({ name, mark }: { name: string; mark: string }) => body(http.POST('/sites/{name}/undo', { params: { path: { name } }, body: { mark } })))
export const useKeepCopy = () => useDo((name: string) => body(http.POST('/sites/{name}/copies', { params: { path: { name } } })))
export const usePutBack = () => useDo(({ name, id }: { name: string; id: number }) => body(http.POST('/sites/{name}/copies/{id}/put-back', { params: { path: { name, id } } })))
export const useDropCopy = () => useDo(({ name, id }: { name: string; id: number }) => body(http.DELETE('/sites/{name}/copies/{id}', { params: { path: { name, id } } })))
export const useRetire = () => useDo((name: string) => body(http.POST('/sites/{name}/retire', { params: { path: { name } }, body: {} })))
export const useRotate = () => useDo((name: string) => body(http.POST('/sites/{name}/rotate', { params: { path: { name } } })))
export const useMove = () => useDo(({ name, to }: { name: string; to: Schemas['Move'] }) => body(http.POST('/sites/{name}/move', { params: { path: { name } }, body: to })))
export const useMovePlan = (name: string, to: Schemas['Move'] | null) =>
  useQuery({ queryKey: ['sites', name, 'move', to], enabled: to !== null, retry: false, gcTime: 0, placeholderData: keepPreviousData, queryFn: () => body(http.POST('/sites/{name}/move/plan', { params: { path: { name } }, body: to! })) })
export const useHold = () => useDo(({ name, held, visible }: { name: string; held: boolean; visible?: boolean }) => body(http.PUT('/sites/{name}/held', { params: { path: { name } }, body: { held, visible } })))
export const useRefreshPlan = (name: string, from: string, wanted: boolean) =>
  useQuery({ queryKey: ['sites', name, 'refresh', from], enabled: wanted, retry: false, gcTime: 0, queryFn: () => body(http.POST('/sites/{name}/refresh/plan', { params: { path: { name } }, body: { from: from || undefined } })) })
export const useRefresh = () => useDo(({ name, from, mark }: { name: string; from: string; mark?: string }) => body(http.POST('/sites/{name}/refresh', { params: { path: { name } }, body: { from: from || undefined, mark } })))
export const useHandOver = () => useDo(({ name, days }: { name: string; days: number }) => body(http.POST('/sites/{name}/handovers', { params: { path: { name } }, body: { days } })))
export const useWithdraw = () => useDo((name: string) => body(http.DELETE('/sites/{name}/handovers', { params: { path: { name } } })))
export const useSheet = (name: string) => useQuery({ queryKey: ['sites', name, 'sheet'], queryFn: () => body(http.GET('/sites/{name}/sheet', { params: { path: { name } } })) })
export const useOpenHandover = () => useMutation({ mutationFn: (key: string) => body(http.POST('/handovers/open', { body: { key } })) })
export const usePlanTable = (table: Schemas['NewTable'] | null) =>
  useQuery({ queryKey: ['plan', 'table', table], enabled: table !== null, retry: false, gcTime: 0, queryFn: () => body(http.POST('/sites/table/plan', { body: table! })) })
export const useMakeTable = () => useDo((table: Schemas['NewTable']) => body(http.POST('/sites/table', { body: table })))
export const useSideBySide = (name: string) => useQuery({ queryKey: ['sites', name, 'side-by-side'], retry: false, queryFn: () => body(http.GET('/sites/{name}/side-by-side', { params: { path: { name } } })) })
export const useLook = () => useDo((name: string) => body(http.POST('/sites/{name}/side-by-side', { params: { path: { name } }, body: {} })))
export const useCopyRule = () => useDo(({ name, last, days }: { name: string; last: number; days: number }) => body(http.PUT('/sites/{name}/copy-rule', { params: { path: { name } }, body: { last, days } })))
export const useRetry = () => useDo(({ id, from }: { id: number; from?: string }) => body(http.POST('/runs/{id}/retry', { params: { path: { id } }, body: { from } })))
export const useCancel = () => useDo((id: number) => body(http.POST('/runs/{id}/cancel', { params: { path: { id } } })))
export const useReveal = () => useDo((r: Schemas['Reveal']) => body(http.POST('/vault/reveal', { body: r })))

export const ended = (r: Run) => !['waiting', 'working', 'cleanup-failed'].includes(r.status)
