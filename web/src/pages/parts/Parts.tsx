import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
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
      <Head title={t`Parts of the console`} facts={t`Each part in each of its states, in this theme.`} beside={<Status tone="plain" icon={Eye}><Trans>for whoever builds it</Trans></Status>}>
        <Button><Trans>Another act</Trans></Button><Button primary><Trans>The first act</Trans></Button>
      </Head>
      <div className="grid gap-4 lg:grid-cols-2 items-start">
        <Shelf title={t`Buttons`}>
          <Line><Button primary><Trans>Primary</Trans></Button><Button><Trans>Plain</Trans></Button><Button danger><Trans>Takes away…</Trans></Button><Button danger primary><Trans>Retire it</Trans></Button><Button disabled><Trans>Cannot now</Trans></Button></Line>
          <Line><Button small><Trans>Small</Trans></Button><Button small danger><Trans>Drop…</Trans></Button><ButtonLink small to="/parts"><Trans>A link</Trans></ButtonLink><Copy text={t`alder-valley`} what="a name" /><Menu label={t`Acts`}><MenuItem onSelect={() => {}}><Trans>One act</Trans></MenuItem><MenuItem danger onSelect={() => {}}><Trans>Retire</Trans></MenuItem></Menu></Line>
        </Shelf>
        <Shelf title={t`States`}>
          <Line><Status tone="good" icon={Check}><Trans>15 pass</Trans></Status><Status tone="look" icon={Eye}><Trans>held</Trans></Status><Status tone="wrong" icon={X}><Trans>2 faults</Trans></Status><Status tone="plain" icon={CircleDashed}><Trans>not checked</Trans></Status></Line>
          <Line>{['waiting', 'working', 'done', 'failed', 'cancelled', 'cleanup-failed'].map((s) => <RunStatus key={s} status={s} />)}</Line>
          <Line>{['pass', 'warn', 'fail', 'note', 'warning', 'fault'].map((s) => <Result key={s} result={s} />)}</Line>
        </Shelf>
        <Shelf title={t`Fields`}>
          <Faults value={{ address: 'Is no address; it begins with https://.' }}>
            <TextField label={t`Name`} name="name" hint={t`small letters, digits, dashes`} placeholder={t`alder-valley`} mono />
            <TextField label={t`Address`} name="address" hint={t`is not shown while something is wrong`} defaultValue="alder valley" mono />
            <SelectField label={t`Host`} name="host" choices={[{ value: 'preview' }, { value: 'live' }]} />
            <Field label={t`Text`} name="text">{(id) => <Textarea id={id} rows={2} defaultValue="Several lines" />}</Field>
            <Field label={t`Cannot be changed`} name="fixed">{(id) => <Input id={id} disabled defaultValue="as it is" />}</Field>
            <Tick defaultChecked><Trans>Let search engines in</Trans></Tick>
          </Faults>
        </Shelf>
        <Shelf title={t`Windows and words`}>
          <Line>
            <Ask button={t`A question…`} title={t`Make a safety copy of Alder Valley`} about={t`It is kept until a person drops it.`} action={t`Make it`} onSubmit={async () => {}}><TextField label={t`Why`} name="why" /></Ask>
            <Ask danger button={t`Takes away…`} title={t`Drop the safety copy`} about={t`It cannot be put back after that.`} action={t`Drop it`} onSubmit={() => Promise.reject(new Error('The host does not answer; try again when it does.'))} />
          </Line>
          <Trouble error={new Error('There is a client “alder-valley” already; choose another name.')} />
          <Loading /><Empty><Trans>None yet. Make the first one from a release.</Trans></Empty>
          <Line><To to="/parts"><Trans>Within the console</Trans></To><Out href="https://alder-valley.example" /><When at={new Date(Date.now() - 240_000).toISOString()} /><Mark /></Line>
        </Shelf>
        <Shelf title={t`Sizes`}>
          <Areas areas={areas} />
          {areas.map((a) => <p key={a.area} className="flex items-center gap-3"><span className="w-24">{a.area}</span><SizeBar bytes={a.bytes} most={areas[0]!.bytes} area={a.area} /><Bytes of={a.bytes} /></p>)}
        </Shelf>
        <Shelf title={t`Lists`}>
          <Line><Find label={t`name`} value={find} onChange={setFind} /><Chips label={t`State`} value={chip} onPick={setChip} chips={[{ value: '', label: t`all`, count: 3 }, { value: 'held', label: t`held`, count: 1 }, { value: 'none', label: t`not shown`, count: 0 }]} /></Line>
          <Rows caption={t`Short table`} rows={schools} by={(s) => s} columns={[{ head: t`School`, grow: true, cell: (s) => s }, { head: t`Size`, right: true, cell: () => '66 MB' }]} />
          <List name="parts" caption={t`A list that grows`} rows={schools} by={(s) => s} sort="title" onSort={() => {}} columns={[
            { id: 'school', head: t`School`, sort: 'title', fixed: true, grow: true, cell: (s) => s }, { id: 'size', head: t`Size`, sort: 'size', right: true, cell: () => '66 MB' },
          ]} />
        </Shelf>
        <Shelf title={t`Size map`}>
          <SizeMap onOpen={() => {}} root={{ name: '', path: '', area: '', bytes: 84e6, children: areas.map((a) => ({ name: a.area, path: a.area, area: a.area, bytes: a.bytes })) }} />
        </Shelf>
      </div>
    </>
  )
}

const Shelf = ({ title, children }: { title: string; children: ReactNode }) => <Sheet title={title}><div className="px-4 pb-4 grid gap-3">{children}</div></Sheet>
const Line = ({ children }: { children: ReactNode }) => <div className="flex flex-wrap items-center gap-2">{children}</div>
