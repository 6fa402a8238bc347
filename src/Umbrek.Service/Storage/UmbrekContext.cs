using Microsoft.AspNetCore.Identity;
using Microsoft.AspNetCore.Identity.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Design;
using Microsoft.EntityFrameworkCore.Storage.ValueConversion;

namespace Umbrek.Service.Storage;

/// <summary>The tables. Each database has a context of its own below, for its own migrations.</summary>
public abstract class UmbrekContext(DbContextOptions options) : IdentityUserContext<Technician, Guid>(options)
{
    public DbSet<SignInRow> SignIns => Set<SignInRow>();
    public DbSet<SettingRow> Settings => Set<SettingRow>();
    public DbSet<RoleRow> OwnRoles => Set<RoleRow>();
    public DbSet<TeamRow> Teams => Set<TeamRow>();
    public DbSet<TeamMemberRow> TeamMembers => Set<TeamMemberRow>();
    public DbSet<GrantRow> Grants => Set<GrantRow>();
    public DbSet<GroupRow> Groups => Set<GroupRow>();
    public DbSet<CustomerRow> Customers => Set<CustomerRow>();
    public DbSet<OwnFieldRow> OwnFields => Set<OwnFieldRow>();
    public DbSet<OwnValueRow> OwnValues => Set<OwnValueRow>();
    public DbSet<HostTagRow> HostTags => Set<HostTagRow>();
    public DbSet<SavedSelectionRow> SavedSelections => Set<SavedSelectionRow>();
    public DbSet<SessionRow> Sessions => Set<SessionRow>();
    public DbSet<RecordingRow> Recordings => Set<RecordingRow>();
    public DbSet<ParcelRow> Parcels => Set<ParcelRow>();
    public DbSet<TwinRow> Twins => Set<TwinRow>();
    public DbSet<ShelfRow> Shelves => Set<ShelfRow>();
    public DbSet<PolicyRow> Policies => Set<PolicyRow>();
    public DbSet<HostEventRow> HostEvents => Set<HostEventRow>();
    public DbSet<OwnMarkRow> OwnMarks => Set<OwnMarkRow>();
    public DbSet<PreferenceRow> Preferences => Set<PreferenceRow>();
    public DbSet<FactValueRow> FactValues => Set<FactValueRow>();
    public DbSet<InstallerRow> Installers => Set<InstallerRow>();
    public DbSet<EnrolmentRow> Enrolments => Set<EnrolmentRow>();
    public DbSet<ReleaseRow> Releases => Set<ReleaseRow>();
    public DbSet<RolloutRow> Rollouts => Set<RolloutRow>();
    public DbSet<RolloutHostRow> RolloutHosts => Set<RolloutHostRow>();
    public DbSet<ScanRow> Scans => Set<ScanRow>();
    public DbSet<ScanFindRow> ScanFinds => Set<ScanFindRow>();
    public DbSet<DeviceRow> Devices => Set<DeviceRow>();
    public DbSet<SecretRow> Secrets => Set<SecretRow>();
    public DbSet<SecretTextRow> SecretTexts => Set<SecretTextRow>();
    public DbSet<VaultKeyRow> VaultKeys => Set<VaultKeyRow>();
    public DbSet<KeyRotationRow> KeyRotations => Set<KeyRotationRow>();
    public DbSet<KeyRotationHostRow> KeyRotationHosts => Set<KeyRotationHostRow>();
    public DbSet<AuditRow> Audit => Set<AuditRow>();
    public DbSet<HostRow> Hosts => Set<HostRow>();
    public DbSet<FactRow> Facts => Set<FactRow>();
    public DbSet<SampleRow> Samples => Set<SampleRow>();
    public DbSet<RollupRow> Rollups => Set<RollupRow>();
    public DbSet<CheckRow> Checks => Set<CheckRow>();
    public DbSet<ProbeStateRow> ProbeStates => Set<ProbeStateRow>();
    public DbSet<CheckSettingRow> CheckSettings => Set<CheckSettingRow>();
    public DbSet<AlertRow> Alerts => Set<AlertRow>();
    public DbSet<NoticeRow> Notices => Set<NoticeRow>();
    public DbSet<NoticeToldRow> NoticesTold => Set<NoticeToldRow>();
    public DbSet<DeliveryRow> Deliveries => Set<DeliveryRow>();
    public DbSet<DeliveryAlertRow> DeliveryAlerts => Set<DeliveryAlertRow>();
    public DbSet<MaintenanceRow> Maintenance => Set<MaintenanceRow>();
    public DbSet<ReactionRow> Reactions => Set<ReactionRow>();
    public DbSet<ReactionDoneRow> ReactionsDone => Set<ReactionDoneRow>();
    public DbSet<JobRow> Jobs => Set<JobRow>();
    public DbSet<ScriptRow> Scripts => Set<ScriptRow>();
    public DbSet<ScriptVersionRow> ScriptVersions => Set<ScriptVersionRow>();
    public DbSet<RunRow> Runs => Set<RunRow>();
    public DbSet<RunOutputRow> RunOutput => Set<RunOutputRow>();

    protected override void OnModelCreating(ModelBuilder builder)
    {
        base.OnModelCreating(builder);
        builder.Entity<RollupRow>(t =>
        {
            t.HasKey(r => new { r.HostId, r.Span, r.At });
            t.HasIndex(r => new { r.Span, r.At });
        });
        builder.Entity<CheckRow>(t =>
        {
            t.HasIndex(r => r.Key).IsUnique();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<ProbeStateRow>(t =>
        {
            t.HasKey(r => r.HostId);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<CheckSettingRow>(t =>
        {
            t.HasIndex(r => new { r.Check, r.GroupId, r.HostId }).IsUnique();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<NoticeRow>(t =>
        {
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<TeamRow>().WithMany().HasForeignKey(r => r.TeamId).OnDelete(DeleteBehavior.SetNull);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<NoticeToldRow>(t =>
        {
            t.HasKey(r => new { r.NoticeId, r.AlertId });
            t.HasOne<NoticeRow>().WithMany().HasForeignKey(r => r.NoticeId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<AlertRow>().WithMany().HasForeignKey(r => r.AlertId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<DeliveryRow>(t =>
        {
            t.HasIndex(r => new { r.State, r.NextAt });
            t.HasIndex(r => r.DoneAt);
            t.HasOne<NoticeRow>().WithMany().HasForeignKey(r => r.NoticeId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<DeliveryAlertRow>(t =>
        {
            t.HasKey(r => new { r.AlertId, r.DeliveryId });
            t.HasOne<DeliveryRow>().WithMany().HasForeignKey(r => r.DeliveryId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<AlertRow>().WithMany().HasForeignKey(r => r.AlertId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<MaintenanceRow>(t =>
        {
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<ReactionRow>(t =>
        {
            t.HasIndex(r => r.NameKey).IsUnique();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<ReactionDoneRow>(t =>
        {
            t.HasKey(r => new { r.ReactionId, r.AlertId });
            t.HasIndex(r => r.AlertId);
            t.HasIndex(r => new { r.ReactionId, r.HostId, r.At });
            t.HasOne<ReactionRow>().WithMany().HasForeignKey(r => r.ReactionId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<AlertRow>(t =>
        {
            t.HasIndex(r => r.State);
            t.HasIndex(r => new { r.HostId, r.RaisedAt });
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<SettingRow>().HasKey(r => r.Name);
        builder.Entity<SignInRow>(t =>
        {
            t.HasIndex(r => r.Sha256).IsUnique();
            t.HasOne<Technician>().WithMany().HasForeignKey(r => r.TechnicianId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<RoleRow>(t =>
        {
            t.HasIndex(r => r.NameKey).IsUnique();
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<TeamRow>().HasIndex(r => r.NameKey).IsUnique();
        builder.Entity<DeviceRow>(t =>
        {
            t.HasIndex(r => new { r.TechnicianId, r.Sha256 }).IsUnique();
            t.HasOne<Technician>().WithMany().HasForeignKey(r => r.TechnicianId).OnDelete(DeleteBehavior.Cascade);
        });
        // What Identity's own schema has from its third version on.
        builder.Entity<IdentityUserPasskey<Guid>>(t =>
        {
            t.ToTable("Passkeys");
            t.HasKey(r => r.CredentialId);
            t.Property(r => r.CredentialId).HasMaxLength(1024);
            t.HasIndex(r => r.UserId);
            t.HasOne<Technician>().WithMany().HasForeignKey(r => r.UserId).OnDelete(DeleteBehavior.Cascade);
            t.OwnsOne(r => r.Data).ToJson();
        });
        builder.Entity<TeamMemberRow>(t =>
        {
            t.HasKey(r => new { r.TeamId, r.TechnicianId });
            t.HasOne<TeamRow>().WithMany().HasForeignKey(r => r.TeamId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<Technician>().WithMany().HasForeignKey(r => r.TechnicianId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<GrantRow>(t =>
        {
            t.HasOne<Technician>().WithMany().HasForeignKey(r => r.TechnicianId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<TeamRow>().WithMany().HasForeignKey(r => r.TeamId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<GroupRow>(t =>
        {
            t.HasIndex(r => r.PathKey).IsUnique();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.ParentId).OnDelete(DeleteBehavior.Restrict);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<CustomerRow>(t =>
        {
            t.HasKey(r => r.GroupId);
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<OwnFieldRow>(t =>
        {
            t.HasIndex(r => new { r.CustomerId, r.NameKey }).IsUnique();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.CustomerId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<OwnValueRow>(t =>
        {
            t.HasKey(r => new { r.HostId, r.FieldId });
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<OwnFieldRow>().WithMany().HasForeignKey(r => r.FieldId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<HostTagRow>(t =>
        {
            t.HasKey(r => new { r.HostId, r.Key });
            t.HasIndex(r => r.Key);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<SavedSelectionRow>(t =>
        {
            t.HasIndex(r => r.NameKey).IsUnique();
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<SessionRow>(t =>
        {
            t.HasIndex(r => new { r.HostId, r.OpenedAt });
            t.HasIndex(r => r.EndedAt);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<ParcelRow>(t =>
        {
            t.HasIndex(p => new { p.CreatedById, p.IdempotencyKey }).IsUnique();
            t.HasIndex(p => p.Digest);
        });
        builder.Entity<ShelfRow>(t =>
        {
            t.HasIndex(s => new { s.GroupId, s.Name }).IsUnique();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(s => s.GroupId).OnDelete(DeleteBehavior.Restrict);
        });
        builder.Entity<TwinRow>(t => t.HasIndex(w => new { w.CreatedById, w.Name }).IsUnique());
        builder.Entity<RecordingRow>(t =>
        {
            t.HasIndex(r => new { r.BeganAt, r.Id });
            t.HasIndex(r => new { r.HostId, r.BeganAt });
            t.HasIndex(r => r.ShellId);
            t.HasIndex(r => r.EndedAt);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<PolicyRow>(t =>
        {
            t.Property(r => r.Id).ValueGeneratedNever();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<HostEventRow>().HasIndex(r => new { r.HostId, r.At });
        builder.Entity<OwnMarkRow>(t =>
        {
            t.HasKey(r => new { r.TechnicianId, r.HostId });
            t.HasOne<HostRow>().WithMany().HasForeignKey(r => r.HostId).OnDelete(DeleteBehavior.Cascade);
            t.HasOne<Technician>().WithMany().HasForeignKey(r => r.TechnicianId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<PreferenceRow>(t =>
        {
            t.HasKey(r => new { r.TechnicianId, r.Name });
            t.HasOne<Technician>().WithMany().HasForeignKey(r => r.TechnicianId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<FactValueRow>().HasKey(r => new { r.HostId, r.Name, r.Ordinal });
        builder.Entity<InstallerRow>(t =>
        {
            t.HasIndex(r => r.Sha256).IsUnique();
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<EnrolmentRow>(t =>
        {
            t.HasIndex(r => r.PublicKey).IsUnique();
            t.HasIndex(r => new { r.InstallerId, r.At });
            t.HasIndex(r => r.State);
            t.HasOne<InstallerRow>().WithMany().HasForeignKey(r => r.InstallerId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<ReleaseRow>().HasIndex(r => new { r.Version, r.System }).IsUnique();
        builder.Entity<RolloutRow>().HasIndex(r => r.State);
        builder.Entity<RolloutHostRow>().HasKey(r => new { r.RolloutId, r.HostId });
        builder.Entity<ScanFindRow>().HasKey(r => new { r.ScanId, r.Address });
        builder.Entity<SecretRow>(t =>
        {
            t.HasIndex(r => r.HostId);
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Restrict);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<SecretTextRow>(t =>
        {
            t.HasKey(r => new { r.SecretId, r.Number });
            t.HasOne<SecretRow>().WithMany().HasForeignKey(r => r.SecretId).OnDelete(DeleteBehavior.Cascade);
            // A key stays as long as a text needs it.
            t.HasOne<VaultKeyRow>().WithMany().HasForeignKey(r => r.KeyId).OnDelete(DeleteBehavior.Restrict);
        });
        builder.Entity<KeyRotationRow>().HasIndex(r => r.IsOver);
        builder.Entity<KeyRotationHostRow>(t =>
        {
            t.HasKey(r => new { r.RotationId, r.HostId });
            t.HasIndex(r => new { r.HostId, r.State });
            t.HasOne<KeyRotationRow>().WithMany().HasForeignKey(r => r.RotationId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<AuditRow>(t =>
        {
            t.HasKey(r => r.Number);
            t.Property(r => r.Number).ValueGeneratedNever();
            t.HasIndex(r => r.At);
        });
        builder.Entity<HostRow>(t =>
        {
            t.HasIndex(r => r.PublicKey).IsUnique();
            t.HasIndex(r => r.MachineId);
            t.HasIndex(r => r.HardwareId);
            t.HasOne<GroupRow>().WithMany().HasForeignKey(r => r.GroupId).OnDelete(DeleteBehavior.Restrict);
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<FactRow>().HasKey(r => new { r.HostId, r.Name });
        builder.Entity<SampleRow>(t =>
        {
            t.HasKey(r => new { r.HostId, r.At });
            t.HasIndex(r => r.At);
        });
        builder.Entity<JobRow>(t =>
        {
            t.HasIndex(r => new { r.CreatedById, r.IdempotencyKey }).IsUnique();
            t.HasIndex(r => r.ScriptId);
        });
        builder.Entity<ScriptRow>(t =>
        {
            t.HasIndex(r => r.NameKey).IsUnique();
            t.Property(r => r.Version).IsConcurrencyToken();
        });
        builder.Entity<ScriptVersionRow>(t =>
        {
            t.HasKey(r => new { r.ScriptId, r.Number });
            t.HasOne<ScriptRow>().WithMany().HasForeignKey(r => r.ScriptId).OnDelete(DeleteBehavior.Cascade);
        });
        builder.Entity<RunRow>(t =>
        {
            t.HasIndex(r => r.JobId);
            t.HasIndex(r => new { r.HostId, r.State });
            t.HasIndex(r => r.State);
        });
        builder.Entity<RunOutputRow>().HasKey(r => new { r.RunId, r.Sequence });
    }
}

/// <summary>The embedded database. Ids are 16 bytes in big-endian order, times Unix milliseconds: small, and they sort by time.</summary>
public sealed class SqliteUmbrekContext(DbContextOptions<SqliteUmbrekContext> options) : UmbrekContext(options)
{
    protected override void ConfigureConventions(ModelConfigurationBuilder configurationBuilder)
    {
        configurationBuilder.Properties<Guid>().HaveConversion<GuidToBytes>();
        configurationBuilder.Properties<DateTimeOffset>().HaveConversion<TimeToMilliseconds>();
    }

    private sealed class GuidToBytes() : ValueConverter<Guid, byte[]>(id => id.ToByteArray(true), bytes => new Guid(bytes, true));

    private sealed class TimeToMilliseconds() : ValueConverter<DateTimeOffset, long>(t => t.ToUnixTimeMilliseconds(), ms => DateTimeOffset.FromUnixTimeMilliseconds(ms));
}

/// <summary>The database for several nodes.</summary>
public sealed class PostgresUmbrekContext(DbContextOptions<PostgresUmbrekContext> options) : UmbrekContext(options);

/// <summary>For the migrations tool alone.</summary>
public sealed class SqliteDesign : IDesignTimeDbContextFactory<SqliteUmbrekContext>
{
    public SqliteUmbrekContext CreateDbContext(string[] args) => new(new DbContextOptionsBuilder<SqliteUmbrekContext>().UseSqlite("Data Source=:memory:").Options);
}

/// <summary>For the migrations tool alone.</summary>
public sealed class PostgresDesign : IDesignTimeDbContextFactory<PostgresUmbrekContext>
{
    public PostgresUmbrekContext CreateDbContext(string[] args) => new(new DbContextOptionsBuilder<PostgresUmbrekContext>().UseNpgsql("Host=localhost").Options);
}
