<script lang="ts">
  import { api, call, every, type EstateMember, type Role } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PeopleTabs from "#lib/components/people/PeopleTabs.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, day, offerWords, scopeWords, until } from "#lib/format.ts";
  import RemoveEstate from "#lib/components/people/RemoveEstate.svelte";
  import Invite from "#lib/components/people/Invite.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import Confirm from "#lib/components/common/Confirm.svelte";

  const ROLES: Role[] = ["viewer", "operator", "engineer", "owner"];

  const path = $derived({ estate: session.estate });
  const manages = $derived(session.may("people"));

  const held = resource(async () => {
    const [members, table, invitations, shares] = await Promise.all([
      every((query) => call(api.GET("/api/v1/estates/{estate}/people", { params: { path, query } }))),
      every((query) => call(api.GET("/api/v1/roles", { params: { query } }))),
      manages ? every((query) => call(api.GET("/api/v1/estates/{estate}/invitations", { params: { path, query } }))) : [],
      manages ? every((query) => call(api.GET("/api/v1/estates/{estate}/shares", { params: { path, query } }))) : [],
    ]);
    return { members, table, invitations, shares };
  });
  const members = $derived(held.value?.members ?? []);
  const table = $derived(held.value?.table ?? []);
  const invitations = $derived(held.value?.invitations ?? []);
  const shares = $derived(held.value?.shares ?? []);
  const act = new Action();
  const problem = $derived(act.problem || held.problem);

  /** Carries an action out, and loads the page again whatever came of it. */
  async function done(asked: Parameters<typeof call>[0]) {
    await act.run(() => call(asked));
    await held.load();
  }

  const change = (member: EstateMember, to: Role) =>
    done(api.PATCH("/api/v1/estates/{estate}/people/{name}", { params: { path: { ...path, name: member.name } }, body: { role: to, was: member.role } }));
  const remove = (name: string) => done(api.DELETE("/api/v1/estates/{estate}/people/{name}", { params: { path: { ...path, name } } }));
  const withdraw = (id: number) => done(api.DELETE("/api/v1/estates/{estate}/invitations/{id}", { params: { path: { ...path, id: String(id) } } }));
  const unshare = (id: number) => done(api.DELETE("/api/v1/estates/{estate}/shares/{id}", { params: { path: { ...path, id: String(id) } } }));
</script>

<svelte:head><title>People · Keen Heron</title></svelte:head>

<h1 class="mb-2">People</h1>
<PeopleTabs />
<Notice text={problem} />

<section class="mt-2">
  <h2 class="mb-1">Members</h2>
  <DataTable data-members
    >{#snippet head()}<th>Name</th><th>Role</th><th class="hidden sm:table-cell">Since</th><th class="hidden md:table-cell">Invited by</th><th
        class="hidden sm:table-cell">Two-step</th
      ><th class="hidden sm:table-cell">Last seen</th><th></th>{/snippet}
    {#each members as member (member.name)}
      <tr data-member={member.name}>
        <td class="font-semibold"
          >{member.name}{#if member.name === session.me?.name}<span class="font-normal text-base-content/75">{" "}(you)</span>{/if}</td
        >
        <td>
          {#if manages}
            <select
              class="select select-sm w-32"
              aria-label="Role of {member.name}"
              value={member.role}
              onchange={(event) => change(member, event.currentTarget.value as Role)}
            >
              {#each ROLES as one (one)}<option value={one}>{one}</option>{/each}
            </select>
          {:else}
            {member.role}
          {/if}
        </td>
        <td class="hidden whitespace-nowrap tabular-nums sm:table-cell">{day(member.since)}</td>
        <td class="hidden md:table-cell">{member.by ?? "–"}</td>
        <td class="hidden sm:table-cell">{member.two_step ? "yes" : "no"}</td>
        <td class="hidden whitespace-nowrap sm:table-cell">{ago(member.last_seen, live.now)}</td>
        <td class="text-right">
          {#if manages && member.name !== session.me?.name}
            <Confirm label="Remove" what="What they created stays; their tokens are revoked." sure="Remove {member.name}" run={() => remove(member.name)} />
          {/if}
        </td>
      </tr>
    {/each}
  </DataTable>
</section>

{#if manages}
  <section class="mt-6 grid gap-4 lg:grid-cols-2">
    <Invite done={held.load} />
    <div class="space-y-4">
      <Card title="Open invitations" data-invitations>
        {#each invitations as one (one.id)}
          <div class="flex flex-wrap items-center gap-x-3 border-b border-base-300 py-1.5 last:border-0">
            <span class="min-w-0 flex-1"
              ><b class="font-semibold">{one.for_whom}</b>: {offerWords(one.offer)}
              <span class="text-sm text-base-content/75">good for {until(one.expires_at, live.now)}, by {one.by}</span></span
            >
            <button class="btn btn-sm" type="button" onclick={() => withdraw(one.id)}>Revoke</button>
          </div>
        {:else}
          <p class="text-sm text-base-content/75">None.</p>
        {/each}
      </Card>
      <Card title="Shared with others" data-shares>
        {#each shares as one (one.id)}
          <div class="flex flex-wrap items-center gap-x-3 border-b border-base-300 py-1.5 last:border-0" data-share={one.id}>
            <span class="min-w-0 flex-1"
              ><b class="font-semibold">{one.person}</b>: {scopeWords(one.scope)}, to {one.may}
              <span class="text-sm text-base-content/75">{one.until ? `until ${day(one.until)}` : "no end"}, by {one.by}</span></span
            >
            <button class="btn btn-sm" type="button" onclick={() => unshare(one.id)}>Revoke</button>
          </div>
        {:else}
          <p class="text-sm text-base-content/75">Nothing is shared. A fleet or a device can be shared with somebody who is not a member.</p>
        {/each}
      </Card>
    </div>
  </section>
{/if}

<section class="mt-6">
  <h2 class="mb-1">What each role may do</h2>
  <DataTable data-roles
    >{#snippet head()}<th>Right</th><th>Allows</th>{#each ROLES as one (one)}<th class="text-center">{one}</th>{/each}<th class="text-center">in tokens</th
      >{/snippet}
    {#each table as row (row.right)}
      <tr>
        <td class="font-mono text-[0.9em]">{row.right}</td>
        <td class="min-w-60">{row.about}</td>
        {#each ROLES as one (one)}<td class="text-center">{row.roles.includes(one) ? "yes" : "–"}</td>{/each}
        <td class="text-center">{row.for_tokens ? "yes" : "–"}</td>
      </tr>
    {/each}
  </DataTable>
</section>

{#if manages && session.whole}<RemoveEstate />{/if}
