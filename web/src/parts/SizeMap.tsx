import { hierarchy, treemap, treemapSquarify, type HierarchyRectangularNode } from 'd3-hierarchy'
import { useLayoutEffect, useRef, useState } from 'react'
import type { Schemas } from '../api/client'
import { cx } from './basics'
import { size } from './format'

type Node = Schemas['MapNode']

/** Sizes as areas: each box is a folder or file, opened by a click or Enter. Two levels have headings. */
export function SizeMap({ root, onOpen }: { root: Node; onOpen: (path: string) => void }) {
  const box = useRef<HTMLDivElement>(null)
  const [width, setWidth] = useState(0)
  const height = 390
  useLayoutEffect(() => {
    const watch = new ResizeObserver(([e]) => e && setWidth(Math.floor(e.contentRect.width)))
    if (box.current) watch.observe(box.current)
    return () => watch.disconnect()
  }, [])
  const laid = width > 0 ? layOut(root, width, height) : []
  return (
    <div ref={box} className="relative" style={{ height }} role="group" aria-label="Size map">
      {laid.map((n) => {
        const w = n.x1 - n.x0
        const h = n.y1 - n.y0
        const group = n.children !== undefined
        const area = n.data.area || 'mixed'
        return (
          <button key={n.data.path + n.depth} type="button" aria-label={w > 34 && h > 15 ? undefined : `${n.data.name} ${size(n.data.bytes)}`} title={`${n.data.path || n.data.name}: ${size(n.data.bytes)}`} onClick={() => onOpen(n.data.path)}
            className={cx('absolute overflow-hidden text-left leading-tight text-[0.82rem] rounded-[2px] border border-sheet hover:brightness-110 focus-visible:z-10', group ? 'bg-bench text-ink' : `area area-${area}`)}
            style={{ left: n.x0, top: n.y0, width: w, height: h }}>
            {w > 34 && h > 15 && (
              <span className="absolute inset-x-1 top-px truncate font-semibold">{n.data.name}{group && w > 110 && <span className="font-mono font-normal text-soft"> {size(n.data.bytes)}</span>}</span>
            )}
            {!group && w > 50 && h > 30 && <span className="absolute left-1 top-[15px] font-mono">{size(n.data.bytes)}</span>}
          </button>
        )
      })}
    </div>
  )
}

function layOut(root: Node, width: number, height: number): HierarchyRectangularNode<Node>[] {
  const tree = hierarchy<Node>(root, (n) => n.children)
    .sum((n) => (n.children?.length ? 0 : n.bytes))
    .sort((a, b) => (b.value ?? 0) - (a.value ?? 0))
  const laid = treemap<Node>().size([width, height]).tile(treemapSquarify.ratio(1.3)).paddingInner(1).paddingOuter((n) => (n.depth > 0 ? 1 : 0)).paddingTop((n) => (n.depth > 0 ? 16 : 0)).round(true)(tree)
  return laid.descendants().filter((n) => n.depth > 0 && n.x1 - n.x0 > 2 && n.y1 - n.y0 > 2)
}
