import { Check, CircleDashed, Eye, X } from 'lucide-react'
import { useState, type ReactNode } from 'react'
import { Areas } from '../../parts/Areas'
import { Button, ButtonLink } from '../../parts/Button'
import { Chips } from '../../parts/Chips'
import { Copy } from '../../parts/Copy'
import { Ask } from '../../parts/Dialog'
import { Faults, Field, Input, SelectField, Textarea, TextField, Tick } from '../../parts/Field'
import { Find } from '../../parts/Find'
import { Head } from '../../parts/Head'
import { List } from '../../parts/List'
import { Out, To } from '../../parts/Links'
import { Mark } from '../../parts/Mark'
import { Menu, MenuItem } from '../../parts/Menu'
import { Rows } from '../../parts/Rows'
import { Empty, Loading, Trouble } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { Bytes, SizeBar } from '../../parts/SizeBar'
import { SizeMap } from '../../parts/SizeMap'
import { Result, RunStatus, Status } from '../../parts/Status'
import { When } from '../../parts/When'

const areas = ['core', 'extensions', 'themes', 'media', 'languages', 'database', 'other'].map((area, i) => ({ area, bytes: (7 - i) * 3_000_000 }))
const schools = ['Alder Valley', 'Brook Lane', 'Cedar Hill']

/** Every part of the console in every state. */
export function Parts() {
  const [chip, setChip] = useState('')
  const [find, setFind] = useState('')
  return (
    <>
      <Head title="Parts of the console" facts="Each part in each of its states, in this theme." beside={<Status tone="plain" icon={Eye}>for whoever builds it</Status>}>
        <Button>Another act</Button><Button primary>The first act</Button>
      </Head>
      <div className="grid gap-4 lg:grid-cols-2 items-start">
        <Shelf title="Buttons">
          <Line><Button primary>Primary</Button><Button>Plain</Button><Button danger>Takes away…</Button><Button danger primary>Retire it</Button><Button disabled>Cannot now</Button></Line>
          <Line><Button small>Small</Button><Button small danger>Drop…</Button><ButtonLink small to="/parts">A link</ButtonLink><Copy text="alder-valley" what="a name" /><Menu label="Acts"><MenuItem onSelect={() => {}}>One act</MenuItem><MenuItem danger onSelect={() => {}}>Retire</MenuItem></Menu></Line>
        </Shelf>
        <Shelf title="States">
          <Line><Status tone="good" icon={Check}>15 pass</Status><Status tone="look" icon={Eye}>held</Status><Status tone="wrong" icon={X}>2 faults</Status><Status tone="plain" icon={CircleDashed}>not checked</Status></Line>
          <Line>{['waiting', 'working', 'done', 'failed', 'cancelled', 'cleanup-failed'].map((s) => <RunStatus key={s} status={s} />)}</Line>
          <Line>{['pass', 'warn', 'fail', 'note', 'warning', 'fault'].map((s) => <Result key={s} result={s} />)}</Line>
        </Shelf>
        <Shelf title="Fields">
          <Faults value={{ address: 'Is no address; it begins with https://.' }}>
            <TextField label="Name" name="name" hint="small letters, digits, dashes" placeholder="alder-valley" mono />
            <TextField label="Address" name="address" hint="is not shown while something is wrong" defaultValue="alder valley" mono />
            <SelectField label="Host" name="host" choices={[{ value: 'preview' }, { value: 'live' }]} />
            <Field label="Text" name="text">{(id) => <Textarea id={id} rows={2} defaultValue="Several lines" />}</Field>
            <Field label="Cannot be changed" name="fixed">{(id) => <Input id={id} disabled defaultValue="as it is" />}</Field>
            <Tick defaultChecked>Let search engines in</Tick>
          </Faults>
        </Shelf>
        <Shelf title="Windows and words">
          <Line>
            <Ask button="A question…" title="Make a safety copy of Alder Valley" about="It is kept until a person drops it." action="Make it" onSubmit={async () => {}}><TextField label="Why" name="why" /></Ask>
            <Ask danger button="Takes away…" title="Drop the safety copy" about="It cannot be put back after that." action="Drop it" onSubmit={() => Promise.reject(new Error('The host does not answer; try again when it does.'))} />
          </Line>
          <Trouble error={new Error('There is a client “alder-valley” already; choose another name.')} />
          <Loading /><Empty>None yet. Make the first one from a release.</Empty>
          <Line><To to="/parts">Within the console</To><Out href="https://alder-valley.example" /><When at={new Date(Date.now() - 240_000).toISOString()} /><Mark /></Line>
        </Shelf>
        <Shelf title="Sizes">
          <Areas areas={areas} />
          {areas.map((a) => <p key={a.area} className="flex items-center gap-3"><span className="w-24">{a.area}</span><SizeBar bytes={a.bytes} most={areas[0]!.bytes} area={a.area} /><Bytes of={a.bytes} /></p>)}
        </Shelf>
        <Shelf title="Lists">
          <Line><Find label="name" value={find} onChange={setFind} /><Chips label="State" value={chip} onPick={setChip} chips={[{ value: '', label: 'all', count: 3 }, { value: 'held', label: 'held', count: 1 }, { value: 'none', label: 'not shown', count: 0 }]} /></Line>
          <Rows caption="Short table" rows={schools} by={(s) => s} columns={[{ head: 'School', grow: true, cell: (s) => s }, { head: 'Size', right: true, cell: () => '66 MB' }]} />
          <List name="parts" caption="A list that grows" rows={schools} by={(s) => s} sort="title" onSort={() => {}} columns={[
            { id: 'school', head: 'School', sort: 'title', fixed: true, grow: true, cell: (s) => s }, { id: 'size', head: 'Size', sort: 'size', right: true, cell: () => '66 MB' },
          ]} />
        </Shelf>
        <Shelf title="Size map">
          <SizeMap onOpen={() => {}} root={{ name: '', path: '', area: '', bytes: 84e6, children: areas.map((a) => ({ name: a.area, path: a.area, area: a.area, bytes: a.bytes })) }} />
        </Shelf>
      </div>
    </>
  )
}

const Shelf = ({ title, children }: { title: string; children: ReactNode }) => <Sheet title={title}><div className="px-4 pb-4 grid gap-3">{children}</div></Sheet>
const Line = ({ children }: { children: ReactNode }) => <div className="flex flex-wrap items-center gap-2">{children}</div>
