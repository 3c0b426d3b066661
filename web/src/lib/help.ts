import { t } from '@lingui/core/macro'
// What the fields of forms are for, by the schema of what is sent and the field's name, with the section of the guide that has more.
export type Says = { text: string; section: string }

const host = t`1. A host`
const remote = t`Hosting that is reached over SSH or FTP`

const hostFields: Record<string, Says> = {
  name: { text: t`Its name here. Sites refer to it by this name.`, section: host },
  files: { text: t`The folder that all sites on the host are below: one of this machine, or one that is reached over SSH or FTP with its account and machine.`, section: remote },
  web_root: { text: t`Where in that folder a site is placed. {name} stands for the site’s name, {host} for the host name in its address.`, section: host },
  address: { text: t`What sites are called on the host unless something else is said: previews, mostly. {name} stands for the site’s name.`, section: host },
  database: { text: t`A server with an account that may make databases and users. Where the hosting company gives one empty database only, that database and its user.`, section: host },
  database_password: { text: t`It goes into the vault, and is not shown again.`, section: t`Before you begin` },
  files_password: { text: t`Of the account that reaches the files. It goes into the vault. A key is better, where the host takes one.`, section: remote },
  files_key: { text: t`The private key of that account, as text. Its public half has to be on the host.`, section: remote },
  connect: { text: t`The machine that checks connect to, as long as names of sites lead elsewhere: a site can then be seen before its name is moved.`, section: host },
}

const { name: _, ...changed } = hostFields

export const help: Partial<Record<string, Record<string, Says>>> = {
  NewHost: hostFields,
  ChangedHost: changed,
  NewSource: {
    name: { text: t`What you call the site here, from which packages are made.`, section: t`2. A source` },
    path: { text: t`The folder of the site on its host. “Look for it” lists the folders, and marks those that look like a CMS.`, section: t`2. A source` },
    kind: { text: t`Which CMS it is. It is detected automatically; override it if that is wrong.`, section: t`2. A source` },
    database: { text: t`Only where the site’s own settings do not lead to it, as when the host reaches its database by another name.`, section: t`2. A source` },
    prefix: { text: t`What its tables begin with, where the settings file does not say so.`, section: t`2. A source` },
    sub_site: { text: t`Of a network of sites the one that packages are to be made of; all of them unless given.`, section: t`Networks of sites` },
  },
  NewStarter: { name: { text: t`Its releases are called by it: music-base@1, music-base@2. People and scripts ask for its newest by the name alone.`, section: t`4. A starter and what goes into it` } },
  NewRelease: { note: { text: t`What is new in it, for whoever chooses a release later.`, section: t`5. A release` } },
  Retention: {
    last: { text: t`Archives of the newest releases, whatever their age. Archives that a site was made from are kept besides.`, section: t`Which archives are kept` },
    weeks: { text: t`Of the older ones, the last of each week, for so many weeks.`, section: t`Which archives are kept` },
  },
  NewClient: { name: { text: t`Sites are named after it, and so are their databases: short, without spaces.`, section: t`6. A client` } },
  NewInstall: {
    name: { text: t`What you call the one copy of the code that several sites share.`, section: t`Sites that share code` },
    from: { text: t`The release whose code is placed. It can be brought to a newer one for all its sites later.`, section: t`Sites that share code` },
  },
  NewUser: {
    role: { text: t`Owners change hosts, people and the vault; builders do the daily work; viewers look.`, section: t`Before you begin` },
    password: { text: t`They change it themselves, once they have logged in.`, section: t`Before you begin` },
  },
  NewToken: { days: { text: t`After so many days it opens nothing any more; 0 for never.`, section: t`Before you begin` } },
  NewHandover: { days: { text: t`Whoever has the link can open it once, within these days.`, section: t`9. Handover` } },
  CopyRule: {
    last: { text: t`So many of the newest copies stay, whatever their age; 0 keeps all.`, section: t`Safety copies, and the end` },
    days: { text: t`Older ones are dropped by themselves; 0 for never.`, section: t`Safety copies, and the end` },
  },
}
