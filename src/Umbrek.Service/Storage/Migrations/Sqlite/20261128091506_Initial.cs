using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Sqlite
{
    /// <inheritdoc />
    public partial class Initial : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "AspNetUsers",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Lockouts = table.Column<int>(type: "INTEGER", nullable: false),
                    ProtectedFactor = table.Column<string>(type: "TEXT", nullable: true),
                    FactorStep = table.Column<long>(type: "INTEGER", nullable: false),
                    RecoveryCodes = table.Column<string>(type: "TEXT", nullable: false),
                    UserName = table.Column<string>(type: "TEXT", maxLength: 256, nullable: true),
                    NormalizedUserName = table.Column<string>(type: "TEXT", maxLength: 256, nullable: true),
                    Email = table.Column<string>(type: "TEXT", maxLength: 256, nullable: true),
                    NormalizedEmail = table.Column<string>(type: "TEXT", maxLength: 256, nullable: true),
                    EmailConfirmed = table.Column<bool>(type: "INTEGER", nullable: false),
                    PasswordHash = table.Column<string>(type: "TEXT", nullable: true),
                    SecurityStamp = table.Column<string>(type: "TEXT", nullable: true),
                    ConcurrencyStamp = table.Column<string>(type: "TEXT", nullable: true),
                    PhoneNumber = table.Column<string>(type: "TEXT", nullable: true),
                    PhoneNumberConfirmed = table.Column<bool>(type: "INTEGER", nullable: false),
                    TwoFactorEnabled = table.Column<bool>(type: "INTEGER", nullable: false),
                    LockoutEnd = table.Column<long>(type: "INTEGER", nullable: true),
                    LockoutEnabled = table.Column<bool>(type: "INTEGER", nullable: false),
                    AccessFailedCount = table.Column<int>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AspNetUsers", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Audit",
                columns: table => new
                {
                    Number = table.Column<long>(type: "INTEGER", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Actor = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    Action = table.Column<string>(type: "TEXT", nullable: false),
                    Target = table.Column<string>(type: "TEXT", nullable: false),
                    Detail = table.Column<string>(type: "TEXT", nullable: false),
                    Hash = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Audit", x => x.Number);
                });

            migrationBuilder.CreateTable(
                name: "FactValues",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Ordinal = table.Column<int>(type: "INTEGER", nullable: false),
                    TextKey = table.Column<string>(type: "TEXT", nullable: false),
                    Number = table.Column<double>(type: "REAL", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_FactValues", x => new { x.HostId, x.Name, x.Ordinal });
                });

            migrationBuilder.CreateTable(
                name: "Facts",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Value = table.Column<string>(type: "TEXT", nullable: false),
                    LearntAt = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Facts", x => new { x.HostId, x.Name });
                });

            migrationBuilder.CreateTable(
                name: "Groups",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    ParentId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Path = table.Column<string>(type: "TEXT", nullable: false),
                    PathKey = table.Column<string>(type: "TEXT", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Groups", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Groups_Groups_ParentId",
                        column: x => x.ParentId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Restrict);
                });

            migrationBuilder.CreateTable(
                name: "HostEvents",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Kind = table.Column<int>(type: "INTEGER", nullable: false),
                    By = table.Column<string>(type: "TEXT", nullable: false),
                    Text = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_HostEvents", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Jobs",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedById = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    IdempotencyKey = table.Column<string>(type: "TEXT", nullable: true),
                    Selection = table.Column<string>(type: "TEXT", nullable: false),
                    Command = table.Column<string>(type: "TEXT", nullable: false),
                    UsesVault = table.Column<bool>(type: "INTEGER", nullable: false),
                    Pace = table.Column<string>(type: "TEXT", nullable: true),
                    AgainOf = table.Column<byte[]>(type: "BLOB", nullable: true),
                    ScriptId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    ScriptName = table.Column<string>(type: "TEXT", nullable: true),
                    ScriptNumber = table.Column<int>(type: "INTEGER", nullable: true),
                    ExpiresAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CancelledAt = table.Column<long>(type: "INTEGER", nullable: true),
                    CancelledBy = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Jobs", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "KeyRotations",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Selection = table.Column<string>(type: "TEXT", nullable: false),
                    EndSessions = table.Column<bool>(type: "INTEGER", nullable: false),
                    IsOver = table.Column<bool>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedById = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_KeyRotations", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "OwnRoles",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    NameKey = table.Column<string>(type: "TEXT", nullable: false),
                    Permissions = table.Column<string>(type: "TEXT", nullable: false),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_OwnRoles", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Parcels",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedById = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    IdempotencyKey = table.Column<string>(type: "TEXT", nullable: true),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Files = table.Column<int>(type: "INTEGER", nullable: false),
                    Folders = table.Column<int>(type: "INTEGER", nullable: false),
                    Links = table.Column<int>(type: "INTEGER", nullable: false),
                    Bytes = table.Column<long>(type: "INTEGER", nullable: false),
                    Digest = table.Column<string>(type: "TEXT", nullable: true),
                    Body = table.Column<string>(type: "TEXT", nullable: true),
                    KeptUntil = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Parcels", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Releases",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Version = table.Column<string>(type: "TEXT", nullable: false),
                    System = table.Column<string>(type: "TEXT", nullable: false),
                    Size = table.Column<long>(type: "INTEGER", nullable: false),
                    Sha256 = table.Column<string>(type: "TEXT", nullable: false),
                    Signature = table.Column<byte[]>(type: "BLOB", nullable: false),
                    AddedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    AddedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Releases", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "RolloutHosts",
                columns: table => new
                {
                    RolloutId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Wave = table.Column<int>(type: "INTEGER", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Attempts = table.Column<int>(type: "INTEGER", nullable: false),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    At = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_RolloutHosts", x => new { x.RolloutId, x.HostId });
                });

            migrationBuilder.CreateTable(
                name: "Rollouts",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    ReleaseId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Selection = table.Column<string>(type: "TEXT", nullable: false),
                    FailuresAllowed = table.Column<int>(type: "INTEGER", nullable: false),
                    ReturnWithinSeconds = table.Column<int>(type: "INTEGER", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Rollouts", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Rollups",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Span = table.Column<int>(type: "INTEGER", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Figures = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Rollups", x => new { x.HostId, x.Span, x.At });
                });

            migrationBuilder.CreateTable(
                name: "RunOutput",
                columns: table => new
                {
                    RunId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Sequence = table.Column<long>(type: "INTEGER", nullable: false),
                    Stream = table.Column<int>(type: "INTEGER", nullable: false),
                    Packed = table.Column<bool>(type: "INTEGER", nullable: false),
                    Data = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_RunOutput", x => new { x.RunId, x.Sequence });
                });

            migrationBuilder.CreateTable(
                name: "Runs",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    JobId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Held = table.Column<bool>(type: "INTEGER", nullable: false),
                    CancelRequestedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    AcceptedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    StartedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    ExitStatus = table.Column<int>(type: "INTEGER", nullable: true),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    User = table.Column<string>(type: "TEXT", nullable: true),
                    LastSequence = table.Column<long>(type: "INTEGER", nullable: false),
                    StdoutBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    StderrBytes = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Runs", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Samples",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    ProcessorPercent = table.Column<double>(type: "REAL", nullable: false),
                    MemoryUsedPercent = table.Column<double>(type: "REAL", nullable: false),
                    StorageUsedPercent = table.Column<double>(type: "REAL", nullable: false),
                    Load1 = table.Column<double>(type: "REAL", nullable: false),
                    MemoryTotalBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    MemoryFreeBytes = table.Column<long>(type: "INTEGER", nullable: false),
                    StorageFreeBytes = table.Column<long>(type: "INTEGER", nullable: true),
                    UptimeSeconds = table.Column<long>(type: "INTEGER", nullable: false),
                    SwapUsedPercent = table.Column<double>(type: "REAL", nullable: true),
                    TemperatureCelsius = table.Column<double>(type: "REAL", nullable: true),
                    Sample = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Samples", x => new { x.HostId, x.At });
                });

            migrationBuilder.CreateTable(
                name: "SavedSelections",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    NameKey = table.Column<string>(type: "TEXT", nullable: false),
                    Text = table.Column<string>(type: "TEXT", nullable: false),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SavedSelections", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "ScanFinds",
                columns: table => new
                {
                    ScanId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: true),
                    HardwareAddress = table.Column<string>(type: "TEXT", nullable: true),
                    OpenPorts = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_ScanFinds", x => new { x.ScanId, x.Address });
                });

            migrationBuilder.CreateTable(
                name: "Scans",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Range = table.Column<string>(type: "TEXT", nullable: false),
                    Ports = table.Column<string>(type: "TEXT", nullable: false),
                    ProbesPerSecond = table.Column<int>(type: "INTEGER", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Problem = table.Column<string>(type: "TEXT", nullable: true),
                    StartedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    StartedBy = table.Column<string>(type: "TEXT", nullable: false),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Probed = table.Column<int>(type: "INTEGER", nullable: false),
                    Total = table.Column<int>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Scans", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Scripts",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    NameKey = table.Column<string>(type: "TEXT", nullable: false),
                    Description = table.Column<string>(type: "TEXT", nullable: true),
                    OwnerId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Owner = table.Column<string>(type: "TEXT", nullable: false),
                    Sharing = table.Column<string>(type: "TEXT", nullable: false),
                    Latest = table.Column<int>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    ChangedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    ChangedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Scripts", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Settings",
                columns: table => new
                {
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Value = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Settings", x => x.Name);
                });

            migrationBuilder.CreateTable(
                name: "Teams",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    NameKey = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Teams", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Twins",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedById = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Wish = table.Column<string>(type: "TEXT", nullable: false),
                    Turn = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Twins", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "VaultKeys",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Protected = table.Column<string>(type: "TEXT", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_VaultKeys", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "AspNetUserClaims",
                columns: table => new
                {
                    Id = table.Column<int>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    UserId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    ClaimType = table.Column<string>(type: "TEXT", nullable: true),
                    ClaimValue = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AspNetUserClaims", x => x.Id);
                    table.ForeignKey(
                        name: "FK_AspNetUserClaims_AspNetUsers_UserId",
                        column: x => x.UserId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "AspNetUserLogins",
                columns: table => new
                {
                    LoginProvider = table.Column<string>(type: "TEXT", nullable: false),
                    ProviderKey = table.Column<string>(type: "TEXT", nullable: false),
                    ProviderDisplayName = table.Column<string>(type: "TEXT", nullable: true),
                    UserId = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AspNetUserLogins", x => new { x.LoginProvider, x.ProviderKey });
                    table.ForeignKey(
                        name: "FK_AspNetUserLogins_AspNetUsers_UserId",
                        column: x => x.UserId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "AspNetUserTokens",
                columns: table => new
                {
                    UserId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    LoginProvider = table.Column<string>(type: "TEXT", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Value = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_AspNetUserTokens", x => new { x.UserId, x.LoginProvider, x.Name });
                    table.ForeignKey(
                        name: "FK_AspNetUserTokens_AspNetUsers_UserId",
                        column: x => x.UserId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Devices",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Sha256 = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Device = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    FirstSeenAt = table.Column<long>(type: "INTEGER", nullable: false),
                    LastSeenAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Confirmed = table.Column<bool>(type: "INTEGER", nullable: false),
                    FactorUntil = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Devices", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Devices_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Passkeys",
                columns: table => new
                {
                    CredentialId = table.Column<byte[]>(type: "BLOB", maxLength: 1024, nullable: false),
                    UserId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Data = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Passkeys", x => x.CredentialId);
                    table.ForeignKey(
                        name: "FK_Passkeys_AspNetUsers_UserId",
                        column: x => x.UserId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Preferences",
                columns: table => new
                {
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Value = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Preferences", x => new { x.TechnicianId, x.Name });
                    table.ForeignKey(
                        name: "FK_Preferences_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "SignIns",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Kind = table.Column<int>(type: "INTEGER", nullable: false),
                    Sha256 = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Device = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    LastSeenAt = table.Column<long>(type: "INTEGER", nullable: false),
                    ExpiresAt = table.Column<long>(type: "INTEGER", nullable: false),
                    DeviceId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Permissions = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SignIns", x => x.Id);
                    table.ForeignKey(
                        name: "FK_SignIns_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Checks",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Key = table.Column<string>(type: "TEXT", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    Subsystem = table.Column<int>(type: "INTEGER", nullable: false),
                    Severity = table.Column<int>(type: "INTEGER", nullable: false),
                    When = table.Column<string>(type: "TEXT", nullable: false),
                    Until = table.Column<string>(type: "TEXT", nullable: true),
                    HoldSeconds = table.Column<double>(type: "REAL", nullable: false),
                    Follows = table.Column<string>(type: "TEXT", nullable: true),
                    Fix = table.Column<string>(type: "TEXT", nullable: true),
                    Probe = table.Column<string>(type: "TEXT", nullable: true),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Checks", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Checks_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Customers",
                columns: table => new
                {
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Contact = table.Column<string>(type: "TEXT", nullable: true),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    Notes = table.Column<string>(type: "TEXT", nullable: true),
                    Colour = table.Column<string>(type: "TEXT", nullable: true),
                    Emblem = table.Column<string>(type: "TEXT", nullable: true),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Customers", x => x.GroupId);
                    table.ForeignKey(
                        name: "FK_Customers_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Hosts",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    SystemName = table.Column<string>(type: "TEXT", nullable: false),
                    Label = table.Column<string>(type: "TEXT", nullable: false),
                    SystemNameKey = table.Column<string>(type: "TEXT", nullable: false),
                    LabelKey = table.Column<string>(type: "TEXT", nullable: false),
                    Notes = table.Column<string>(type: "TEXT", nullable: true),
                    Links = table.Column<string>(type: "TEXT", nullable: true),
                    RetiredAt = table.Column<long>(type: "INTEGER", nullable: true),
                    RetiredBy = table.Column<string>(type: "TEXT", nullable: true),
                    MachineId = table.Column<string>(type: "TEXT", nullable: true),
                    HardwareId = table.Column<string>(type: "TEXT", nullable: true),
                    Side = table.Column<string>(type: "TEXT", nullable: true),
                    Policy = table.Column<string>(type: "TEXT", nullable: false),
                    PublicKey = table.Column<byte[]>(type: "BLOB", nullable: false),
                    EnrolledAt = table.Column<long>(type: "INTEGER", nullable: false),
                    EnrolledWith = table.Column<byte[]>(type: "BLOB", nullable: false),
                    AgentVersion = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    StorageFullAt = table.Column<long>(type: "INTEGER", nullable: true),
                    LastSeenAt = table.Column<long>(type: "INTEGER", nullable: false),
                    Presence = table.Column<int>(type: "INTEGER", nullable: false),
                    PresenceReason = table.Column<int>(type: "INTEGER", nullable: false),
                    PresenceSince = table.Column<long>(type: "INTEGER", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Hosts", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Hosts_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Restrict);
                });

            migrationBuilder.CreateTable(
                name: "Installers",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Sha256 = table.Column<byte[]>(type: "BLOB", nullable: false),
                    ProtectedToken = table.Column<string>(type: "TEXT", nullable: false),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    Policy = table.Column<string>(type: "TEXT", nullable: false),
                    AccessKey = table.Column<int>(type: "INTEGER", nullable: false),
                    ApprovalNeeded = table.Column<bool>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    ExpiresAt = table.Column<long>(type: "INTEGER", nullable: true),
                    MaxUses = table.Column<int>(type: "INTEGER", nullable: true),
                    Uses = table.Column<int>(type: "INTEGER", nullable: false),
                    RevokedAt = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Installers", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Installers_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "OwnFields",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CustomerId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    NameKey = table.Column<string>(type: "TEXT", nullable: false),
                    Kind = table.Column<int>(type: "INTEGER", nullable: false),
                    Choices = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_OwnFields", x => x.Id);
                    table.ForeignKey(
                        name: "FK_OwnFields_Groups_CustomerId",
                        column: x => x.CustomerId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Secrets",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Kind = table.Column<string>(type: "TEXT", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    UserName = table.Column<string>(type: "TEXT", nullable: true),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    Number = table.Column<int>(type: "INTEGER", nullable: false),
                    Protected = table.Column<string>(type: "TEXT", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    ChangedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    ChangedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Secrets", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Secrets_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Restrict);
                });

            migrationBuilder.CreateTable(
                name: "Shelves",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Shelves", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Shelves_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Restrict);
                });

            migrationBuilder.CreateTable(
                name: "KeyRotationHosts",
                columns: table => new
                {
                    RotationId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    At = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_KeyRotationHosts", x => new { x.RotationId, x.HostId });
                    table.ForeignKey(
                        name: "FK_KeyRotationHosts_KeyRotations_RotationId",
                        column: x => x.RotationId,
                        principalTable: "KeyRotations",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "ScriptVersions",
                columns: table => new
                {
                    ScriptId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Number = table.Column<int>(type: "INTEGER", nullable: false),
                    Command = table.Column<string>(type: "TEXT", nullable: false),
                    Parameters = table.Column<string>(type: "TEXT", nullable: false),
                    Lines = table.Column<int>(type: "INTEGER", nullable: false),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_ScriptVersions", x => new { x.ScriptId, x.Number });
                    table.ForeignKey(
                        name: "FK_ScriptVersions_Scripts_ScriptId",
                        column: x => x.ScriptId,
                        principalTable: "Scripts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Grants",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    TeamId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    RoleId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    EndsAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Grants", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Grants_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Grants_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Grants_Teams_TeamId",
                        column: x => x.TeamId,
                        principalTable: "Teams",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Notices",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    On = table.Column<string>(type: "TEXT", nullable: true),
                    AtLeast = table.Column<int>(type: "INTEGER", nullable: false),
                    About = table.Column<string>(type: "TEXT", nullable: true),
                    Way = table.Column<int>(type: "INTEGER", nullable: false),
                    TeamId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Addresses = table.Column<string>(type: "TEXT", nullable: false),
                    Url = table.Column<string>(type: "TEXT", nullable: true),
                    ProtectedSecret = table.Column<string>(type: "TEXT", nullable: true),
                    AfterSeconds = table.Column<double>(type: "REAL", nullable: false),
                    DigestAt = table.Column<string>(type: "TEXT", nullable: true),
                    Quiet = table.Column<string>(type: "TEXT", nullable: true),
                    Zone = table.Column<string>(type: "TEXT", nullable: false),
                    CriticalAlways = table.Column<bool>(type: "INTEGER", nullable: false),
                    TellsEnd = table.Column<bool>(type: "INTEGER", nullable: false),
                    Off = table.Column<bool>(type: "INTEGER", nullable: false),
                    DigestedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Notices", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Notices_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Notices_Teams_TeamId",
                        column: x => x.TeamId,
                        principalTable: "Teams",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.SetNull);
                });

            migrationBuilder.CreateTable(
                name: "TeamMembers",
                columns: table => new
                {
                    TeamId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_TeamMembers", x => new { x.TeamId, x.TechnicianId });
                    table.ForeignKey(
                        name: "FK_TeamMembers_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_TeamMembers_Teams_TeamId",
                        column: x => x.TeamId,
                        principalTable: "Teams",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Alerts",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Check = table.Column<string>(type: "TEXT", nullable: false),
                    CheckName = table.Column<string>(type: "TEXT", nullable: false),
                    Subsystem = table.Column<int>(type: "INTEGER", nullable: false),
                    Severity = table.Column<int>(type: "INTEGER", nullable: false),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    RaisedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    What = table.Column<string>(type: "TEXT", nullable: false),
                    Follows = table.Column<string>(type: "TEXT", nullable: true),
                    Fix = table.Column<string>(type: "TEXT", nullable: true),
                    StateAt = table.Column<long>(type: "INTEGER", nullable: false),
                    StateBy = table.Column<string>(type: "TEXT", nullable: true),
                    SnoozedUntil = table.Column<long>(type: "INTEGER", nullable: true),
                    Note = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Alerts", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Alerts_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "CheckSettings",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Check = table.Column<string>(type: "TEXT", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Off = table.Column<bool>(type: "INTEGER", nullable: true),
                    Severity = table.Column<int>(type: "INTEGER", nullable: true),
                    When = table.Column<string>(type: "TEXT", nullable: true),
                    Until = table.Column<string>(type: "TEXT", nullable: true),
                    HoldSeconds = table.Column<double>(type: "REAL", nullable: true),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    ChangedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    ChangedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_CheckSettings", x => x.Id);
                    table.ForeignKey(
                        name: "FK_CheckSettings_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_CheckSettings_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "HostTags",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Key = table.Column<string>(type: "TEXT", nullable: false),
                    Tag = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_HostTags", x => new { x.HostId, x.Key });
                    table.ForeignKey(
                        name: "FK_HostTags_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Maintenance",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Name = table.Column<string>(type: "TEXT", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    On = table.Column<string>(type: "TEXT", nullable: true),
                    Starts = table.Column<string>(type: "TEXT", nullable: false),
                    Zone = table.Column<string>(type: "TEXT", nullable: false),
                    Minutes = table.Column<int>(type: "INTEGER", nullable: false),
                    Rule = table.Column<string>(type: "TEXT", nullable: true),
                    Note = table.Column<string>(type: "TEXT", nullable: true),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Maintenance", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Maintenance_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Maintenance_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "OwnMarks",
                columns: table => new
                {
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Pinned = table.Column<bool>(type: "INTEGER", nullable: false),
                    Colour = table.Column<string>(type: "TEXT", nullable: true),
                    OpenedAt = table.Column<long>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_OwnMarks", x => new { x.TechnicianId, x.HostId });
                    table.ForeignKey(
                        name: "FK_OwnMarks_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_OwnMarks_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Policies",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    Part = table.Column<string>(type: "TEXT", nullable: false),
                    ChangedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    ChangedBy = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Policies", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Policies_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Policies_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "ProbeStates",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Results = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_ProbeStates", x => x.HostId);
                    table.ForeignKey(
                        name: "FK_ProbeStates_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Recordings",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    SessionId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Kind = table.Column<int>(type: "INTEGER", nullable: false),
                    ShellId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Technician = table.Column<string>(type: "TEXT", nullable: false),
                    CommandText = table.Column<string>(type: "TEXT", nullable: false),
                    User = table.Column<string>(type: "TEXT", nullable: true),
                    IsTerminal = table.Column<bool>(type: "INTEGER", nullable: false),
                    HasKeys = table.Column<bool>(type: "INTEGER", nullable: false),
                    Continues = table.Column<bool>(type: "INTEGER", nullable: false),
                    BeganAt = table.Column<long>(type: "INTEGER", nullable: false),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Bytes = table.Column<long>(type: "INTEGER", nullable: true),
                    Sha256 = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Recordings", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Recordings_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Sessions",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    TechnicianId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Technician = table.Column<string>(type: "TEXT", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    Reason = table.Column<string>(type: "TEXT", nullable: true),
                    OpenedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    EndedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    EndReason = table.Column<string>(type: "TEXT", nullable: true),
                    Note = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Sessions", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Sessions_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Enrolments",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    InstallerId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    GroupId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false),
                    Address = table.Column<string>(type: "TEXT", nullable: true),
                    SystemName = table.Column<string>(type: "TEXT", nullable: false),
                    Label = table.Column<string>(type: "TEXT", nullable: false),
                    MachineId = table.Column<string>(type: "TEXT", nullable: true),
                    HardwareId = table.Column<string>(type: "TEXT", nullable: true),
                    AgentVersion = table.Column<string>(type: "TEXT", nullable: false),
                    PublicKey = table.Column<byte[]>(type: "BLOB", nullable: true),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Why = table.Column<int>(type: "INTEGER", nullable: false),
                    Detail = table.Column<string>(type: "TEXT", nullable: true),
                    SameAsHostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: true),
                    DecidedAt = table.Column<long>(type: "INTEGER", nullable: true),
                    DecidedBy = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Enrolments", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Enrolments_Installers_InstallerId",
                        column: x => x.InstallerId,
                        principalTable: "Installers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "OwnValues",
                columns: table => new
                {
                    HostId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    FieldId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Text = table.Column<string>(type: "TEXT", nullable: false),
                    TextKey = table.Column<string>(type: "TEXT", nullable: false),
                    Number = table.Column<double>(type: "REAL", nullable: true),
                    Day = table.Column<int>(type: "INTEGER", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_OwnValues", x => new { x.HostId, x.FieldId });
                    table.ForeignKey(
                        name: "FK_OwnValues_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_OwnValues_OwnFields_FieldId",
                        column: x => x.FieldId,
                        principalTable: "OwnFields",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "SecretTexts",
                columns: table => new
                {
                    SecretId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Number = table.Column<int>(type: "INTEGER", nullable: false),
                    KeyId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Cipher = table.Column<byte[]>(type: "BLOB", nullable: false),
                    IsProposed = table.Column<bool>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    CreatedBy = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SecretTexts", x => new { x.SecretId, x.Number });
                    table.ForeignKey(
                        name: "FK_SecretTexts_Secrets_SecretId",
                        column: x => x.SecretId,
                        principalTable: "Secrets",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_SecretTexts_VaultKeys_KeyId",
                        column: x => x.KeyId,
                        principalTable: "VaultKeys",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Restrict);
                });

            migrationBuilder.CreateTable(
                name: "Deliveries",
                columns: table => new
                {
                    Id = table.Column<byte[]>(type: "BLOB", nullable: false),
                    NoticeId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    Way = table.Column<int>(type: "INTEGER", nullable: false),
                    To = table.Column<string>(type: "TEXT", nullable: false),
                    Subject = table.Column<string>(type: "TEXT", nullable: false),
                    Body = table.Column<string>(type: "TEXT", nullable: false),
                    Thread = table.Column<byte[]>(type: "BLOB", nullable: true),
                    State = table.Column<int>(type: "INTEGER", nullable: false),
                    Attempts = table.Column<int>(type: "INTEGER", nullable: false),
                    CreatedAt = table.Column<long>(type: "INTEGER", nullable: false),
                    NextAt = table.Column<long>(type: "INTEGER", nullable: false),
                    DoneAt = table.Column<long>(type: "INTEGER", nullable: true),
                    Problem = table.Column<string>(type: "TEXT", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Deliveries", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Deliveries_Notices_NoticeId",
                        column: x => x.NoticeId,
                        principalTable: "Notices",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "NoticesTold",
                columns: table => new
                {
                    NoticeId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    AlertId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    At = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_NoticesTold", x => new { x.NoticeId, x.AlertId });
                    table.ForeignKey(
                        name: "FK_NoticesTold_Alerts_AlertId",
                        column: x => x.AlertId,
                        principalTable: "Alerts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_NoticesTold_Notices_NoticeId",
                        column: x => x.NoticeId,
                        principalTable: "Notices",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "DeliveryAlerts",
                columns: table => new
                {
                    DeliveryId = table.Column<byte[]>(type: "BLOB", nullable: false),
                    AlertId = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_DeliveryAlerts", x => new { x.AlertId, x.DeliveryId });
                    table.ForeignKey(
                        name: "FK_DeliveryAlerts_Alerts_AlertId",
                        column: x => x.AlertId,
                        principalTable: "Alerts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_DeliveryAlerts_Deliveries_DeliveryId",
                        column: x => x.DeliveryId,
                        principalTable: "Deliveries",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_HostId_RaisedAt",
                table: "Alerts",
                columns: new[] { "HostId", "RaisedAt" });

            migrationBuilder.CreateIndex(
                name: "IX_Alerts_State",
                table: "Alerts",
                column: "State");

            migrationBuilder.CreateIndex(
                name: "IX_AspNetUserClaims_UserId",
                table: "AspNetUserClaims",
                column: "UserId");

            migrationBuilder.CreateIndex(
                name: "IX_AspNetUserLogins_UserId",
                table: "AspNetUserLogins",
                column: "UserId");

            migrationBuilder.CreateIndex(
                name: "EmailIndex",
                table: "AspNetUsers",
                column: "NormalizedEmail");

            migrationBuilder.CreateIndex(
                name: "UserNameIndex",
                table: "AspNetUsers",
                column: "NormalizedUserName",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Audit_At",
                table: "Audit",
                column: "At");

            migrationBuilder.CreateIndex(
                name: "IX_CheckSettings_Check_GroupId_HostId",
                table: "CheckSettings",
                columns: new[] { "Check", "GroupId", "HostId" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_CheckSettings_GroupId",
                table: "CheckSettings",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_CheckSettings_HostId",
                table: "CheckSettings",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Checks_GroupId",
                table: "Checks",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Checks_Key",
                table: "Checks",
                column: "Key",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Deliveries_DoneAt",
                table: "Deliveries",
                column: "DoneAt");

            migrationBuilder.CreateIndex(
                name: "IX_Deliveries_NoticeId",
                table: "Deliveries",
                column: "NoticeId");

            migrationBuilder.CreateIndex(
                name: "IX_Deliveries_State_NextAt",
                table: "Deliveries",
                columns: new[] { "State", "NextAt" });

            migrationBuilder.CreateIndex(
                name: "IX_DeliveryAlerts_DeliveryId",
                table: "DeliveryAlerts",
                column: "DeliveryId");

            migrationBuilder.CreateIndex(
                name: "IX_Devices_TechnicianId_Sha256",
                table: "Devices",
                columns: new[] { "TechnicianId", "Sha256" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Enrolments_InstallerId_At",
                table: "Enrolments",
                columns: new[] { "InstallerId", "At" });

            migrationBuilder.CreateIndex(
                name: "IX_Enrolments_PublicKey",
                table: "Enrolments",
                column: "PublicKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Enrolments_State",
                table: "Enrolments",
                column: "State");

            migrationBuilder.CreateIndex(
                name: "IX_Grants_GroupId",
                table: "Grants",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Grants_TeamId",
                table: "Grants",
                column: "TeamId");

            migrationBuilder.CreateIndex(
                name: "IX_Grants_TechnicianId",
                table: "Grants",
                column: "TechnicianId");

            migrationBuilder.CreateIndex(
                name: "IX_Groups_ParentId",
                table: "Groups",
                column: "ParentId");

            migrationBuilder.CreateIndex(
                name: "IX_Groups_PathKey",
                table: "Groups",
                column: "PathKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_HostEvents_HostId_At",
                table: "HostEvents",
                columns: new[] { "HostId", "At" });

            migrationBuilder.CreateIndex(
                name: "IX_HostTags_Key",
                table: "HostTags",
                column: "Key");

            migrationBuilder.CreateIndex(
                name: "IX_Hosts_GroupId",
                table: "Hosts",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Hosts_HardwareId",
                table: "Hosts",
                column: "HardwareId");

            migrationBuilder.CreateIndex(
                name: "IX_Hosts_MachineId",
                table: "Hosts",
                column: "MachineId");

            migrationBuilder.CreateIndex(
                name: "IX_Hosts_PublicKey",
                table: "Hosts",
                column: "PublicKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Installers_GroupId",
                table: "Installers",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Installers_Sha256",
                table: "Installers",
                column: "Sha256",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Jobs_CreatedById_IdempotencyKey",
                table: "Jobs",
                columns: new[] { "CreatedById", "IdempotencyKey" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Jobs_ScriptId",
                table: "Jobs",
                column: "ScriptId");

            migrationBuilder.CreateIndex(
                name: "IX_KeyRotationHosts_HostId_State",
                table: "KeyRotationHosts",
                columns: new[] { "HostId", "State" });

            migrationBuilder.CreateIndex(
                name: "IX_KeyRotations_IsOver",
                table: "KeyRotations",
                column: "IsOver");

            migrationBuilder.CreateIndex(
                name: "IX_Maintenance_GroupId",
                table: "Maintenance",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Maintenance_HostId",
                table: "Maintenance",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Notices_GroupId",
                table: "Notices",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Notices_TeamId",
                table: "Notices",
                column: "TeamId");

            migrationBuilder.CreateIndex(
                name: "IX_NoticesTold_AlertId",
                table: "NoticesTold",
                column: "AlertId");

            migrationBuilder.CreateIndex(
                name: "IX_OwnFields_CustomerId_NameKey",
                table: "OwnFields",
                columns: new[] { "CustomerId", "NameKey" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_OwnMarks_HostId",
                table: "OwnMarks",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_OwnRoles_NameKey",
                table: "OwnRoles",
                column: "NameKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_OwnValues_FieldId",
                table: "OwnValues",
                column: "FieldId");

            migrationBuilder.CreateIndex(
                name: "IX_Parcels_CreatedById_IdempotencyKey",
                table: "Parcels",
                columns: new[] { "CreatedById", "IdempotencyKey" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Parcels_Digest",
                table: "Parcels",
                column: "Digest");

            migrationBuilder.CreateIndex(
                name: "IX_Passkeys_UserId",
                table: "Passkeys",
                column: "UserId");

            migrationBuilder.CreateIndex(
                name: "IX_Policies_GroupId",
                table: "Policies",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Policies_HostId",
                table: "Policies",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_BeganAt_Id",
                table: "Recordings",
                columns: new[] { "BeganAt", "Id" });

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_EndedAt",
                table: "Recordings",
                column: "EndedAt");

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_HostId_BeganAt",
                table: "Recordings",
                columns: new[] { "HostId", "BeganAt" });

            migrationBuilder.CreateIndex(
                name: "IX_Recordings_ShellId",
                table: "Recordings",
                column: "ShellId");

            migrationBuilder.CreateIndex(
                name: "IX_Releases_Version_System",
                table: "Releases",
                columns: new[] { "Version", "System" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Rollouts_State",
                table: "Rollouts",
                column: "State");

            migrationBuilder.CreateIndex(
                name: "IX_Rollups_Span_At",
                table: "Rollups",
                columns: new[] { "Span", "At" });

            migrationBuilder.CreateIndex(
                name: "IX_Runs_HostId_State",
                table: "Runs",
                columns: new[] { "HostId", "State" });

            migrationBuilder.CreateIndex(
                name: "IX_Runs_JobId",
                table: "Runs",
                column: "JobId");

            migrationBuilder.CreateIndex(
                name: "IX_Runs_State",
                table: "Runs",
                column: "State");

            migrationBuilder.CreateIndex(
                name: "IX_Samples_At",
                table: "Samples",
                column: "At");

            migrationBuilder.CreateIndex(
                name: "IX_SavedSelections_NameKey",
                table: "SavedSelections",
                column: "NameKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Scripts_NameKey",
                table: "Scripts",
                column: "NameKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_SecretTexts_KeyId",
                table: "SecretTexts",
                column: "KeyId");

            migrationBuilder.CreateIndex(
                name: "IX_Secrets_GroupId",
                table: "Secrets",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Secrets_HostId",
                table: "Secrets",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Sessions_EndedAt",
                table: "Sessions",
                column: "EndedAt");

            migrationBuilder.CreateIndex(
                name: "IX_Sessions_HostId_OpenedAt",
                table: "Sessions",
                columns: new[] { "HostId", "OpenedAt" });

            migrationBuilder.CreateIndex(
                name: "IX_Shelves_GroupId_Name",
                table: "Shelves",
                columns: new[] { "GroupId", "Name" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_SignIns_Sha256",
                table: "SignIns",
                column: "Sha256",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_SignIns_TechnicianId",
                table: "SignIns",
                column: "TechnicianId");

            migrationBuilder.CreateIndex(
                name: "IX_TeamMembers_TechnicianId",
                table: "TeamMembers",
                column: "TechnicianId");

            migrationBuilder.CreateIndex(
                name: "IX_Teams_NameKey",
                table: "Teams",
                column: "NameKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_Twins_CreatedById_Name",
                table: "Twins",
                columns: new[] { "CreatedById", "Name" },
                unique: true);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "AspNetUserClaims");

            migrationBuilder.DropTable(
                name: "AspNetUserLogins");

            migrationBuilder.DropTable(
                name: "AspNetUserTokens");

            migrationBuilder.DropTable(
                name: "Audit");

            migrationBuilder.DropTable(
                name: "CheckSettings");

            migrationBuilder.DropTable(
                name: "Checks");

            migrationBuilder.DropTable(
                name: "Customers");

            migrationBuilder.DropTable(
                name: "DeliveryAlerts");

            migrationBuilder.DropTable(
                name: "Devices");

            migrationBuilder.DropTable(
                name: "Enrolments");

            migrationBuilder.DropTable(
                name: "FactValues");

            migrationBuilder.DropTable(
                name: "Facts");

            migrationBuilder.DropTable(
                name: "Grants");

            migrationBuilder.DropTable(
                name: "HostEvents");

            migrationBuilder.DropTable(
                name: "HostTags");

            migrationBuilder.DropTable(
                name: "Jobs");

            migrationBuilder.DropTable(
                name: "KeyRotationHosts");

            migrationBuilder.DropTable(
                name: "Maintenance");

            migrationBuilder.DropTable(
                name: "NoticesTold");

            migrationBuilder.DropTable(
                name: "OwnMarks");

            migrationBuilder.DropTable(
                name: "OwnRoles");

            migrationBuilder.DropTable(
                name: "OwnValues");

            migrationBuilder.DropTable(
                name: "Parcels");

            migrationBuilder.DropTable(
                name: "Passkeys");

            migrationBuilder.DropTable(
                name: "Policies");

            migrationBuilder.DropTable(
                name: "Preferences");

            migrationBuilder.DropTable(
                name: "ProbeStates");

            migrationBuilder.DropTable(
                name: "Recordings");

            migrationBuilder.DropTable(
                name: "Releases");

            migrationBuilder.DropTable(
                name: "RolloutHosts");

            migrationBuilder.DropTable(
                name: "Rollouts");

            migrationBuilder.DropTable(
                name: "Rollups");

            migrationBuilder.DropTable(
                name: "RunOutput");

            migrationBuilder.DropTable(
                name: "Runs");

            migrationBuilder.DropTable(
                name: "Samples");

            migrationBuilder.DropTable(
                name: "SavedSelections");

            migrationBuilder.DropTable(
                name: "ScanFinds");

            migrationBuilder.DropTable(
                name: "Scans");

            migrationBuilder.DropTable(
                name: "ScriptVersions");

            migrationBuilder.DropTable(
                name: "SecretTexts");

            migrationBuilder.DropTable(
                name: "Sessions");

            migrationBuilder.DropTable(
                name: "Settings");

            migrationBuilder.DropTable(
                name: "Shelves");

            migrationBuilder.DropTable(
                name: "SignIns");

            migrationBuilder.DropTable(
                name: "TeamMembers");

            migrationBuilder.DropTable(
                name: "Twins");

            migrationBuilder.DropTable(
                name: "Deliveries");

            migrationBuilder.DropTable(
                name: "Installers");

            migrationBuilder.DropTable(
                name: "KeyRotations");

            migrationBuilder.DropTable(
                name: "Alerts");

            migrationBuilder.DropTable(
                name: "OwnFields");

            migrationBuilder.DropTable(
                name: "Scripts");

            migrationBuilder.DropTable(
                name: "Secrets");

            migrationBuilder.DropTable(
                name: "VaultKeys");

            migrationBuilder.DropTable(
                name: "AspNetUsers");

            migrationBuilder.DropTable(
                name: "Notices");

            migrationBuilder.DropTable(
                name: "Hosts");

            migrationBuilder.DropTable(
                name: "Teams");

            migrationBuilder.DropTable(
                name: "Groups");
        }
    }
}
