import { useState } from 'react'
import type { Schemas } from '../../api/client'
import { useAddToken, useAddUser, useMe, useRemoveToken, useRemoveUser, useSetPassword, useTokens, useUsers } from '../../api/hooks'
import { Copy } from '../../parts/Copy'
import { Ask, text } from '../../parts/Dialog'
import { SelectField, TextField } from '../../parts/Field'
import { Head } from '../../parts/Head'
import { Rows } from '../../parts/Rows'
import { Empty, Shown } from '../../parts/Says'
import { Sheet } from '../../parts/Sheet'
import { When } from '../../parts/When'

const roles = [
  { value: 'builder', label: 'builder: builds, makes and changes' }, { value: 'viewer', label: 'viewer: looks, and changes nothing' },
  { value: 'owner', label: 'owner: everything, hosts and people too' },
]

export function People() {
  const users = useUsers()
  const me = useMe().data
  const owner = me?.role === 'owner'
  return (
    <>
      <Head title="People" facts="Who may use the service, and the tokens of programs.">
        <Password name={me?.name ?? ''} own />
        {owner && <AddUser />}
      </Head>
      <div className="grid gap-4 lg:grid-cols-2 items-start">
        <Sheet title="Users">
          <Shown of={users}>{(rows) => (
            <Rows caption="Users" rows={rows} by={(u) => u.name} columns={[
              { head: 'Name', grow: true, cell: (u) => <b>{u.name}{u.name === me?.name && <span className="font-normal text-soft">, you</span>}</b> },
              { head: 'Role', cell: (u) => u.role },
              { head: 'Since', cell: (u) => <When at={u.created_at} /> },
              { head: '', cell: (u) => owner && u.name !== me?.name && <span className="flex gap-1.5 justify-end"><Password name={u.name} /><RemoveUser name={u.name} /></span> },
            ]} />
          )}</Shown>
        </Sheet>
        <Tokens />
      </div>
    </>
  )
}

function AddUser() {
  const add = useAddUser()
  return (
    <Ask asks="NewUser" button="Add a user" primary title="Add a user" action="Add" about="Tell them the password by another way than their name; they change it on this page."
      onSubmit={(f) => add.mutateAsync({ name: text(f, 'name'), role: text(f, 'role') as Schemas['NewUser']['role'], password: String(f.get('password')) })}>
      <TextField label="Name" name="name" hint="small letters, digits, dots, dashes" mono />
      <SelectField label="Role" name="role" choices={roles} />
      <TextField label="Password" name="password" type="password" autoComplete="new-password" hint="at least ten characters" />
    </Ask>
  )
}

function Password({ name, own }: { name: string; own?: boolean }) {
  const set = useSetPassword()
  return (
    <Ask asks="NewPassword" small={!own} button={own ? 'Change your password' : 'Password…'} title={own ? 'Change your password' : `Give ${name} a new password`} action="Change it"
      about="Whoever is logged in with the old one is logged out." onSubmit={(f) => set.mutateAsync({ name, old: String(f.get('old') ?? '') || undefined, new: String(f.get('new')) })}>
      <TextField label={own ? 'Password so far' : 'Your own password'} name="old" type="password" required autoComplete="current-password" />
      <TextField label="New password" name="new" type="password" autoComplete="new-password" hint="at least ten characters" />
    </Ask>
  )
}

function RemoveUser({ name }: { name: string }) {
  const remove = useRemoveUser()
  return (
    <Ask small danger button="Remove…" title={`Remove ${name}`} action="Remove them" about="They are logged out, and their tokens are of no use any more. What they did stays in the records."
      onSubmit={() => remove.mutateAsync(name)} />
  )
}

/** Tokens of one's own: each is shown once. */
function Tokens() {
  const tokens = useTokens()
  const add = useAddToken()
  const remove = useRemoveToken()
  const [made, setMade] = useState('')
  return (
    <Sheet title="Your tokens" aside={
      <Ask asks="NewToken" small button="Make a token" title="Make a token" action="Make it" about="A program that has it may do all that you may."
        onSubmit={async (f) => setMade((await add.mutateAsync({ name: text(f, 'name'), days: Number(text(f, 'days')) || undefined })).token)}>
        <TextField label="What is it for?" name="name" />
        <TextField label="Days" name="days" type="number" min={0} max={3650} hint="after which it is of no use any more; empty for never" />
      </Ask>}>
      {made && <p role="status" className="mx-4 mb-3 bg-leaf-wash rounded px-3 py-2 break-all"><b className="block">It is shown only now</b><code className="font-mono select-all">{made}</code> <Copy text={made} what="the token" /></p>}
      <Shown of={tokens}>{(rows) => rows.length === 0 ? <Empty>None. The command line and other programs log in with one.</Empty> : (
        <Rows caption="Tokens" rows={rows} by={(t) => t.name} columns={[
          { head: 'For', grow: true, cell: (t) => t.name },
          { head: 'Made', cell: (t) => <When at={t.created_at} /> },
          { head: 'Used', cell: (t) => (t.used_at ? <When at={t.used_at} /> : 'never') },
          { head: 'Ends', cell: (t) => (t.expires_at ? <When at={t.expires_at} /> : 'never') },
          { head: '', cell: (t) => <Ask small danger button="Remove…" title={`Remove the token ${t.name}`} action="Remove it" about="Whatever uses it is refused from now on." onSubmit={() => remove.mutateAsync(t.name)} /> },
        ]} />
      )}</Shown>
    </Sheet>
  )
}
