<script lang="ts">
  import { api, say, type Invitation, type EstateMember, type Offer, type RightAbout, type Role, type Share, type ShareLevel } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PeopleTabs from "#lib/components/people/PeopleTabs.svelte";
  import ShownOnce from "#lib/components/common/ShownOnce.svelte";
  import { estateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, day, offerWords, scopeWords, until } from "#lib/format.ts";

  const ROLES: Role[] = ["viewer", "operator", "engineer", "owner"];

  let members = $state<EstateMember[]>([]);
  let invitations = $state<Invitation[]>([]);
  let shares = $state<Share[]>([]);
  let table = $state<RightAbout[]>([]);
  let problem = $state("");
  let sure = $state("");
  let link = $state("");

  let forWhom = $state("");
  let offers = $state<"role" | "fleet" | "device">("role");
  let role = $state<Role>("viewer");
  let fleet = $state("");
  let device = $state("");
  let level = $state<ShareLevel>("read");
  let end = $state("");

  const path = $derived({ estate: session.estate });
  const manages = $derived(session.may("people"));

  async function load() {
    const [people, roles] = await Promise.all([api.GET("/api/v1/estates/{estate}/people", { params: { path } }), api.GET("/api/v1/roles")]);
    problem = people.data ? "" : say(people.error);
    members = people.data ?? [];
    table = roles.data ?? [];
    if (!manages) return;
    const [waiting, shared] = await Promise.all([
      api.GET("/api/v1/estates/{estate}/invitations", { params: { path } }),
      api.GET("/api/v1/estates/{estate}/shares", { params: { path } }),
    ]);
    invitations = waiting.data ?? [];
    shares = shared.data ?? [];
  }

  $effect(() => {
    void load();
    void estateOptions.load();
  });

  /** Carries an action out, shows its error, and loads the page again. */
  async function done(asked: Promise<{ error?: unknown }>) {
    const { error } = await asked;
    sure = "";
    await load();
    problem = error ? say(error as Parameters<typeof say>[0]) : "";
  }

  const change = (member: EstateMember, to: Role) =>
    done(api.PUT("/api/v1/estates/{estate}/people/{name}", { params: { path: { ...path, name: member.name } }, body: { role: to, was: member.role } }));
  const remove = (name: string) => done(api.DELETE("/api/v1/estates/{estate}/people/{name}", { params: { path: { ...path, name } } }));
  const withdraw = (id: number) => done(api.DELETE("/api/v1/estates/{estate}/invitations/{id}", { params: { path: { ...path, id: String(id) } } }));
  const unshare = (id: number) => done(api.DELETE("/api/v1/estates/{estate}/shares/{id}", { params: { path: { ...path, id: String(id) } } }));

  async function invite(event: SubmitEvent) {
    event.preventDefault();
    const share = (scope: { fleet: string } | { device: string }): Offer => ({ share: { scope, may: level, until: end ? new Date(end).toISOString() : null } });
    const offer: Offer = offers === "role" ? { role } : share(offers === "fleet" ? { fleet } : { device: device.trim() });
    const { data, error } = await api.POST("/api/v1/estates/{estate}/invitations", { params: { path }, body: { for_whom: forWhom, offer } });
    if (data) {
      link = `${location.origin}${data.path}`;
      forWhom = "";
      await load();
    }
    problem = data ? "" : say(error);
  }
</script>

<svelte:head><title>People · Keen Heron</title></svelte:head>

<h1 class="mb-2">People</h1>
<PeopleTabs />
<Notice text={problem} />

<section class="mt-2">
  <h2 class="mb-1">Members</h2>
  <div class="overflow-x-auto">
    <table class="table table-sm" data-members>
      <thead
        ><tr
          ><th>Name</th><th>Role</th><th class="hidden sm:table-cell">Since</th><th class="hidden md:table-cell">Invited by</th><th class="hidden sm:table-cell"
            >Two-step</th
          ><th class="hidden sm:table-cell">Last seen</th><th></th></tr
        ></thead
      >
      <tbody>
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
                {#if sure === member.name}
                  <span class="mr-2 text-sm">What they created stays; their tokens are revoked.</span>
                  <button class="btn btn-error btn-sm" type="button" onclick={() => remove(member.name)}>Remove {member.name}</button>
                  <button class="btn btn-ghost btn-sm" type="button" onclick={() => (sure = "")}>Cancel</button>
                {:else}
                  <button class="btn btn-sm" type="button" onclick={() => (sure = member.name)}>Remove</button>
                {/if}
              {/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
</section>

{#if manages}
  <section class="mt-6 grid gap-4 lg:grid-cols-2">
    <form class="rounded-box border border-base-300 p-4" onsubmit={invite} data-invite>
      <h2>Invite or share</h2>
      <p class="mb-3 text-sm text-base-content/80">By a link that works once, within seven days. The recipient signs in or creates an account.</p>
      <div class="grid gap-3 sm:grid-cols-2">
        <label class="sm:col-span-2">
          <span class="block text-sm text-base-content/75">For</span>
          <input class="input w-full" name="for_whom" bind:value={forWhom} placeholder="Marit, harbour office" required />
        </label>
        <label>
          <span class="block text-sm text-base-content/75">Offer</span>
          <select class="select w-full" name="offers" bind:value={offers}>
            <option value="role">a role in the estate</option>
            <option value="fleet">one fleet</option>
            <option value="device">one device</option>
          </select>
        </label>
        {#if offers === "role"}
          <label>
            <span class="block text-sm text-base-content/75">Role</span>
            <select class="select w-full" name="role" bind:value={role}
              >{#each ROLES as one (one)}<option value={one}>{one}</option>{/each}</select
            >
          </label>
        {:else}
          {#if offers === "fleet"}
            <label>
              <span class="block text-sm text-base-content/75">Fleet</span>
              <select class="select w-full" name="fleet" bind:value={fleet} required
                >{#each estateOptions.fleets as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}</select
              >
            </label>
          {:else}
            <label>
              <span class="block text-sm text-base-content/75">DevEUI</span>
              <input class="input w-full font-mono" name="device" bind:value={device} required />
            </label>
          {/if}
          <label>
            <span class="block text-sm text-base-content/75">Access</span>
            <select class="select w-full" name="may" bind:value={level}
              ><option value="read">read</option><option value="operate">read and send downlinks</option></select
            >
          </label>
          <label>
            <span class="block text-sm text-base-content/75">Expires (empty: never)</span>
            <input class="input w-full" type="date" name="until" bind:value={end} />
          </label>
        {/if}
      </div>
      <button class="btn btn-primary mt-3">Create invitation</button>
      {#if link}
        <div class="mt-3">
          <ShownOnce what="The invitation's link" text={link} hint="Send it to the recipient over a private channel." close={() => (link = "")} />
        </div>
      {/if}
    </form>
    <div class="space-y-4">
      <section class="rounded-box border border-base-300 p-4" data-invitations>
        <h2>Open invitations</h2>
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
      </section>
      <section class="rounded-box border border-base-300 p-4" data-shares>
        <h2>Shared with others</h2>
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
      </section>
    </div>
  </section>
{/if}

<section class="mt-6">
  <h2 class="mb-1">What each role may do</h2>
  <div class="overflow-x-auto">
    <table class="table table-sm" data-roles>
      <thead
        ><tr
          ><th>Right</th><th>Allows</th>{#each ROLES as one (one)}<th class="text-center">{one}</th>{/each}<th class="text-center">in tokens</th></tr
        ></thead
      >
      <tbody>
        {#each table as row (row.right)}
          <tr>
            <td class="font-mono text-[0.9em]">{row.right}</td>
            <td class="min-w-60">{row.about}</td>
            {#each ROLES as one (one)}<td class="text-center">{row.roles.includes(one) ? "yes" : "–"}</td>{/each}
            <td class="text-center">{row.for_tokens ? "yes" : "–"}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
</section>
