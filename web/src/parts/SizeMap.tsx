import { t } from '@lingui/core/macro'
import { hierarchy, treemap, treemapSquarify, type HierarchyRectangularNode } from 'd3-hierarchy'
import { useLayoutEffect, useRef, useState, type KeyboardEvent } from 'react'
import type { Schemas } from '../api/client'
import { size } from '../lib/format'
import { cx } from './cx'

type Node = Schemas['MapNode']
type Box = HierarchyRectangularNode<Node>

/** Sizes as areas: each box is a folder or file, opened by a click or Enter. Two levels have headings. It is one stop for Tab; arrows go inside. */
export function SizeMap({ root, onOpen }: { root: Node; onOpen: (path: string, folder: boolean) => void }) {
  const box = useRef<HTMLDivElement>(null)
  const [room, setRoom] = useState({ width: 0, height: 390 })
  const [at, setAt] = useState(0)
  useLayoutEffect(() => {
    const watch = new ResizeObserver(([e]) => {
      if (!e) return
      const top = e.target.getBoundingClientRect().top + window.scrollY
      setRoom({ width: Math.floor(e.contentRect.width), height: Math.max(320, Math.min(820, window.innerHeight - top - 60)) })
    })
    if (box.current) watch.observe(box.current)
    return () => watch.disconnect()
  }, [])
  const laid = room.width > 0 ? layOut(root, room.width, room.height) : []
  const stop = Math.min(at, Math.max(0, laid.length - 1))
  const move = (e: KeyboardEvent) => {
    const next = neighbour(laid, stop, e.key)
    if (next === undefined) return
    e.preventDefault()
    setAt(next)
    box.current?.querySelectorAll<HTMLElement>('[data-box]')[next]?.focus()
  }
  return (
    <div ref={box} className="relative" style={{ height: room.height }} role="group" aria-label={t`Size map`} onKeyDown={move}>
      {laid.map((n, i) => {
        const w = n.x1 - n.x0
        const h = n.y1 - n.y0
        const group = n.children !== undefined
        const named = w > 34 && h > 15
        const path = n.data.path || `${n.parent?.data.path ?? ''}/others`
        return (
          <button key={path} type="button" data-box tabIndex={i === stop ? 0 : -1} title={`${n.data.path || n.data.name}: ${size(n.data.bytes)}`}
            aria-label={named ? undefined : `${n.data.name} ${size(n.data.bytes)}`} onFocus={() => setAt(i)}
            onClick={() => onOpen(n.data.path || (n.parent?.data.path ?? ''), n.data.folder ?? n.data.name === 'others')}
            className={cx('absolute overflow-hidden text-left leading-tight text-[0.82rem] rounded-[2px] border border-sheet hover:brightness-110 focus-visible:z-10',
              group ? 'bg-bench text-ink' : `area area-${n.data.area || 'mixed'}`)}
            style={{ left: n.x0, top: n.y0, width: w, height: h }}>
            {named && (
              <span className="absolute inset-x-1 top-px truncate font-semibold">
                {n.data.name}{group && w > 110 && <span className="font-mono font-normal text-soft"> {size(n.data.bytes)}</span>}
              </span>
            )}
            {!group && w > 50 && h > 30 && <span className="absolute left-1 top-[15px] font-mono">{size(n.data.bytes)}</span>}
          </button>
        )
      })}
    </div>
  )
}

/** The box that is next in the direction of an arrow key. */
function neighbour(laid: Box[], from: number, key: string): number | undefined {
  const to: Record<string, [number, number]> = { ArrowRight: [1, 0], ArrowLeft: [-1, 0], ArrowDown: [0, 1], ArrowUp: [0, -1] }
  const way = to[key]
  const here = laid[from]
  if (!way || !here) return undefined
  const middle = (b: Box): [number, number] => [(b.x0 + b.x1) / 2, (b.y0 + b.y1) / 2]
  const [x, y] = middle(here)
  let best: number | undefined
  let nearest = Infinity
  laid.forEach((b, i) => {
    if (i === from || b.children !== undefined) return
    const [bx, by] = middle(b)
    const along = (bx - x) * way[0] + (by - y) * way[1]
    const across = Math.abs((bx - x) * way[1]) + Math.abs((by - y) * way[0])
    if (along > 1 && along + 2 * across < nearest) {
      nearest = along + 2 * across
      best = i
    }
  })
  return best
}

function layOut(root: Node, width: number, height: number): Box[] {
  const tree = hierarchy<Node>(root, (n) => n.children)
    .sum((n) => (n.children?.length ? 0 : n.bytes))
    .sort((a, b) => (b.value ?? 0) - (a.value ?? 0))
  const laid = treemap<Node>().size([width, height]).tile(treemapSquarify.ratio(1.3)).paddingInner(1)
    .paddingOuter((n) => (n.depth > 0 ? 1 : 0)).paddingTop((n) => (n.depth > 0 ? 16 : 0)).round(true)(tree)
  return laid.descendants().filter((n) => n.depth > 0 && n.x1 - n.x0 > 2 && n.y1 - n.y0 > 2)
}
